"""HTML, folders and zips; and what cannot be held."""

import io
import struct
import zipfile
from pathlib import Path

import pytest

from jetwind.core.message import Envelope, UnusableInput, read_bytes, read_path
from jetwind.core.message.package import LARGEST_INPUT
from jetwind.core.prose.reading import reading_of
from tests.factories import archive, mail, package, picture


class TestForms:
    """What a message may arrive as."""

    def test_zip_with_pictures(self) -> None:
        """Pictures are found by the path that the HTML uses, wherever the HTML lies."""
        data = archive(
            {"mail/index.html": b'<img src="../img/a.png"><img src="b.png">', "img/a.png": picture(), "mail/b.png": picture(10, 10)}
        )
        message = read_bytes(data, "x.zip")
        assert message.form == "package"
        assert message.resource("../img/a.png") is not None
        assert message.resource("b.png") is not None

    def test_text_file_beside_the_html_is_the_plain_text(self) -> None:
        """One .txt is taken as the plain-text part."""
        message = read_bytes(archive({"a.html": b"<p>x</p>", "a.txt": b"hello"}), "x.zip")
        assert message.text is not None
        assert message.text.text == "hello"

    def test_folder_and_html_beside_pictures(self, tmp_path: Path) -> None:
        """A folder is a package; an HTML file takes the pictures beside it, never one from outside."""
        (tmp_path / "mail").mkdir()
        (tmp_path / "secret.png").write_bytes(picture())
        (tmp_path / "mail" / "a.html").write_text('<img src="a.png"><img src="../secret.png">')
        (tmp_path / "mail" / "a.png").write_bytes(picture())
        assert [image.name for image in read_path(tmp_path / "mail").images] == ["a.png"]
        alone = read_path(tmp_path / "mail" / "a.html")
        assert [image.name for image in alone.images] == ["a.png"]

    def test_envelope_takes_the_place_of_headers(self) -> None:
        """Subject, sender and reply address as a person gave them, on one line each."""
        message = read_bytes(b"<p>x</p>", "a.html", envelope=Envelope("A\r\nBcc: all@kiln.org", "Kiln", "k@kiln.org", "", "Preview"))
        assert message.subject == "A Bcc: all@kiln.org"
        assert message.mailboxes("From")[0].address == "k@kiln.org"
        assert message.header("Reply-To") is None
        assert reading_of(message).preview_text == "Preview"

    def test_mail_is_told_by_content_not_by_name(self) -> None:
        """A mail named .txt and a page without a name are both taken."""
        assert read_bytes(mail(), "mail.txt").form == "eml"
        assert read_bytes(b"<!doctype html><p>x</p>", "upload").form == "html"


def encrypted() -> bytes:
    """A zip whose first entry says that it is locked."""
    data = bytearray(package())
    data[6] |= 1
    central = data.index(b"PK\x01\x02")
    data[central + 8] |= 1
    return bytes(data)


def lying_bomb() -> bytes:
    """A zip whose directory claims 10 octets for what unpacks to 70 MB."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as zipped:
        zipped.writestr("a.html", b"\0" * 70_000_000)
    data = bytearray(out.getvalue())
    central = data.index(b"PK\x01\x02")
    struct.pack_into("<L", data, central + 24, 10)
    return bytes(data)


class TestRefused:
    """One sentence that names the thing."""

    @pytest.mark.parametrize(
        ("data", "name", "said"),
        [
            (b"", "a.eml", "“a.eml” is empty"),
            (b" \r\n ", "a.eml", "is empty"),
            (b"\x89PNG\r\n\x1a\n" + b"\0" * 40, "a.eml", "is not a mail"),
            (b"just words, no headers", "a.eml", "is not a mail"),
            (b"PK\x03\x04broken", "a.zip", "broken zip"),
            (b"<p>\0\0\0</p>", "a.html", "binary data"),
            (archive({"a.png": picture()}), "a.zip", "no HTML file"),
            (archive({"a.html": b"<p>", "b.html": b"<p>"}), "a.zip", "holds 2 HTML files (a.html, b.html)"),
            (archive({"../a.html": b"<p>"}), "a.zip", "points outside of it: “../a.html”"),
            (archive({"/etc/a.html": b"<p>"}), "a.zip", "points outside"),
            (archive({"C:/a.html": b"<p>"}), "a.zip", "points outside"),
            (archive({f"{number}.png": b"x" for number in range(2001)}), "a.zip", "2,001 files"),
            (archive({"a.html": b"\0" * 20_000_000}), "a.zip", "far more than it holds"),
            (archive({"a.html": b"<p>", **{f"{n}.png": bytes(range(256)) * 40_000 for n in range(7)}}), "a.zip", "far more than it holds"),
            (encrypted(), "a.zip", "password"),
        ],
        ids=lambda value: value if isinstance(value, str) else "",
    )
    def test_refusals(self, data: bytes, name: str, said: str) -> None:
        """Empty, foreign, broken, hostile."""
        with pytest.raises(UnusableInput) as refused:
            read_bytes(data, name)
        assert said in str(refused.value)
        assert str(refused.value).count("\n") == 0

    def test_a_directory_that_lies_is_noticed_while_unpacking(self) -> None:
        """Limits are kept on what comes out, not on what the zip says."""
        with pytest.raises(UnusableInput):
            read_bytes(lying_bomb(), "a.zip")

    def test_sixty_megabytes(self) -> None:
        """The size and the limit are named."""
        with pytest.raises(UnusableInput, match=r"is 60 MB; the largest that can be taken in is 30 MB"):
            read_bytes(b"Subject: x\n\n" + b"x" * (2 * LARGEST_INPUT), "big.eml")

    @pytest.mark.parametrize("name", ["nowhere", "nowhere.eml"])
    def test_a_path_that_is_not_there(self, tmp_path: Path, name: str) -> None:
        """Named, not a traceback."""
        with pytest.raises(UnusableInput, match="does not exist"):
            read_path(tmp_path / name)

    def test_links_in_a_zip(self) -> None:
        """A symbolic link inside a package is not followed."""
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as zipped:
            entry = zipfile.ZipInfo("a.html")
            entry.external_attr = 0o120777 << 16
            zipped.writestr(entry, "/etc/passwd")
        with pytest.raises(UnusableInput, match="points outside"):
            read_bytes(out.getvalue(), "a.zip")
