"""Words in pictures: how a table of the program is read, and the program itself where the machine has it."""

from __future__ import annotations

import hashlib
import io
from pathlib import Path

import pytest
import skimage.data
from PIL import Image, ImageDraw, ImageFont

from jetwind.core.checking import Context, registry, run_check
from jetwind.core.checks.access.words_in_pictures import WordsOptions, telling_words
from jetwind.core.images.bounded import grey_copy
from jetwind.core.images.collecting import pictures_of
from jetwind.core.images.words import MOST_CHARACTERS, PictureWords, Words
from jetwind.core.message import read_bytes
from jetwind.engines.picture_words import FakeReader, Tesseract, installed, read_each, to_read
from jetwind.engines.picture_words.tesseract import words_in
from tests.factories import archive, picture

#: As tesseract 5.3.0 wrote it (``--psm 11 tsv``) for a picture of "Spring glazes", "20 % off" and a pattern that it took for letters.
TABLE = """level\tpage_num\tblock_num\tpar_num\tline_num\tword_num\tleft\ttop\twidth\theight\tconf\ttext
1\t1\t0\t0\t0\t0\t0\t0\t600\t300\t-1\t
4\t1\t1\t1\t1\t0\t42\t50\t342\t54\t-1\t
5\t1\t1\t1\t1\t1\t42\t50\t156\t54\t97.003044\tSpring
5\t1\t1\t1\t1\t2\t218\t50\t166\t54\t96.992569\tglazes
5\t1\t2\t1\t1\t1\t41\t136\t29\t21\t93.208565\t20
5\t1\t2\t1\t1\t2\t80\t135\t23\t22\t84.416786\t%
5\t1\t2\t1\t1\t3\t113\t134\t38\t23\t97.072815\toff
5\t1\t3\t1\t1\t1\t300\t200\t12\t20\t31.500000\tfj
5\t1\t4\t1\t1\t1\t340\t200\t12\t20\t95.000000\t—
"""


def banner(*lines: str, size: int = 40, ground: str = "#1F5F8B") -> bytes:
    """A picture with words in it."""
    font = ImageFont.truetype(str(next(Path("src/jetwind/engines/browser/fonts").glob("*400-normal.ttf"))), size)
    image = Image.new("RGB", (640, 40 + 2 * size * len(lines)), ground)
    draw = ImageDraw.Draw(image)
    for number, line in enumerate(lines):
        draw.text((30, 30 + 2 * size * number), line, font=font, fill="white")
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def test_a_table() -> None:
    """Words that the program is sure of, line by line; signs alone are none, nor is what it guessed."""
    assert words_in(TABLE) == "Spring glazes\n20 off"
    assert words_in("") == words_in("level\n5\tx") == ""
    many = TABLE + "".join(f"5\t1\t9\t1\t{number}\t1\t0\t0\t9\t9\t96\tword{number}\n" for number in range(2_000))
    assert len(words_in(many)) <= MOST_CHARACTERS


@pytest.fixture
def reader(monkeypatch: pytest.MonkeyPatch) -> Tesseract:
    """The program of this machine."""
    monkeypatch.delenv("JETWIND_TESSERACT", raising=False)
    installed.cache_clear()
    found = installed()
    installed.cache_clear()
    if found is None:
        pytest.skip("tesseract-ocr is optional, and not installed here")
    return found


@pytest.mark.parametrize(
    "name", ["astronaut", "camera", "chelsea", "coffee", "coins", "grass", "gravel", "immunohistochemistry", "moon", "rocket"]
)
def test_photographs_hold_no_words(reader: Tesseract, name: str) -> None:
    """Photographs that come with scikit-image: fewer words than are told."""
    out = io.BytesIO()
    Image.fromarray(getattr(skimage.data, name)()).convert("RGB").save(out, "PNG")
    assert len(telling_words(reader.read(out.getvalue()) or "")) < WordsOptions().least_words


def test_the_program_itself(reader: Tesseract) -> None:
    """Two lines are read; a picture without words has none; what does not open is not handed on."""
    assert reader.name.startswith("tesseract ") and "eng" in reader.languages
    read = reader.read(banner("Spring glazes", "20 % off until Sunday"))
    assert read is not None
    assert {"Spring", "glazes", "off", "until", "Sunday"} <= set(read.split())
    assert reader.read(picture(300, 200)) == ""
    assert reader.read(b"no picture") is None


def test_none_and_one_that_fails(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Where there is none, nobody reads; one that fails, or says nothing, has read nothing."""
    installed.cache_clear()
    monkeypatch.setenv("JETWIND_TESSERACT", "")
    assert installed() is None
    installed.cache_clear()
    wrong = tmp_path / "wrong"
    wrong.write_text("#!/bin/sh\nexit 1\n")
    wrong.chmod(0o755)
    monkeypatch.setenv("JETWIND_TESSERACT", str(wrong))
    assert installed() is None
    installed.cache_clear()
    assert Tesseract(str(wrong), "5", ("eng",)).read(banner("Pots")) is None
    assert Tesseract("/nowhere/tesseract", "5", ("eng",)).read(banner("Pots")) is None


def test_copies() -> None:
    """Grey, small ones twice as large, large ones smaller, clear pixels white; nothing of what is no picture."""
    assert _size(grey_copy(picture(300, 200))) == (600, 400)
    assert _size(grey_copy(picture(5_000, 1_000, form="JPEG"))) == (2_400, 480)
    clear = io.BytesIO()
    Image.new("RGBA", (50, 40), (0, 0, 0, 0)).save(clear, "PNG")
    made = grey_copy(clear.getvalue())
    assert made is not None and Image.open(io.BytesIO(made)).getextrema() == (255, 255)
    assert grey_copy(b"GIF89a") is None
    assert grey_copy(picture(9, 9)[:40]) is None


def _size(data: bytes | None) -> tuple[int, int]:
    assert data is not None
    image = Image.open(io.BytesIO(data))
    assert image.mode == "L"
    return image.size


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("Spring glazes\nSPRING sale", ["Spring", "glazes", "sale"]),
        ("20 % off — 7 to 9, a b c", ["20", "off"]),
        ("Été à l'atelier", ["Été", "atelier"]),
        ("春の釉薬 весна", ["春の釉薬", "весна"]),
        ("\n \t", []),
    ],
)
def test_words_that_say_something(text: str, words: list[str]) -> None:
    """Of three letters or more, numbers of two digits, each once, whatever its capitals; scripts without capitals, too."""
    assert telling_words(text) == words


@pytest.mark.parametrize(
    ("alternative", "is_told"),
    [
        ("Spring glazes are back", False),
        ("SPRING-GLAZES", False),
        ("Sprlng g1azes", False),
        ("Springs, glazed", False),
        ("Sprinkler, gloves", True),
        ("Frühling", True),
        ("%%offer%%", False),
        ("*|OFFER|*", False),
        ("{{ offer }}", False),
    ],
)
def test_what_counts_as_said(alternative: str, is_told: bool) -> None:
    """A letter misread or another ending does not count, another word does; a field of any kind may say anything."""
    address = "https://kiln.org/bowl.png"
    message = read_bytes(f"<p>Hello</p><img src='{address}' alt='{alternative}'>".encode(), "a.html")
    words = PictureWords({hashlib.sha256(address.encode()).hexdigest(): Words("Spring glazes", "reader 1")}, "reader 1")
    answer = run_check(registry()["access.alt-words"], message, Context(picture_words=words))
    assert bool(answer.findings) is is_told, answer


def test_which_are_read() -> None:
    """The largest first, each once, without what is known, spacers, drawings and what does not open."""
    files = {
        "a.html": b"<img src='a.png' alt=''><img src='b.png' alt=''><img src='b.png' alt=''><img src='c.svg' alt=''><img src='d.png' alt=''><img src='e.png' alt=''>",
        "a.png": picture(100, 50),
        "b.png": picture(200, 50),
        "c.svg": b"<svg xmlns='http://www.w3.org/2000/svg' width='90' height='90'><text>Pots</text></svg>",
        "d.png": picture(3, 90),
        "e.png": b"\x89PNG\r\n\x1a\nno",
    }
    pictures = pictures_of(read_bytes(archive(files), "a.zip"))
    names = {one.digest: one.name for one in pictures}
    assert [names[key] for key in to_read(pictures, ())] == ["b.png", "a.png"]
    digest = hashlib.sha256(files["b.png"]).hexdigest()
    assert [names[key] for key in to_read(pictures, {digest})] == ["a.png"]
    reader = FakeReader({digest: "Pots", hashlib.sha256(files["a.png"]).hexdigest(): None})
    assert [words for _, words in read_each(to_read(pictures, ()), reader)] == [Words("Pots", reader.name), Words("", reader.name)]
    assert list(read_each(to_read(pictures, ()), reader, seconds=-1)) == []
