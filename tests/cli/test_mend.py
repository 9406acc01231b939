"""The command ``mend``, called as others call it."""

from __future__ import annotations

import base64
import json
import quopri
import subprocess
import zipfile
from pathlib import Path

import jsonschema
import pytest

from jetwind.core.checking import Context
from jetwind.core.message import read_path
from jetwind.core.reports import review
from jetwind.engines.bounded import Budget
from jetwind.engines.bounded.mending import kinds_bounded
from tests.cli.test_commands import jetwind
from tests.core.test_reports import SARIF_SCHEMA

COPY = "Twelve glazes, mixed by hand from ash and sea sand, are a fifth off until the middle of the month."
FAULTY = f"<html lang='en_GB'><head><title>Glazes</title></head><body><table><tr><td><p>{COPY} Come to the the kiln.</p></td></tr></table></body></html>\n"
SURE = FAULTY.replace("en_GB", "en-GB").replace("<table>", '<table role="presentation">')
ALL = "<!doctype html>\n" + SURE.replace("the the", "the")


@pytest.fixture
def faulty(tmp_path: Path) -> Path:
    """HTML with two faults that are surely mended and two that are mended after a look."""
    path = tmp_path / "glazes.html"
    path.write_text(FAULTY)
    return path


class TestMend:
    """What is written, where, and with which exit status."""

    def test_listed(self, faulty: Path) -> None:
        """Without a way to write, the mends are listed, and the file stays."""
        said = jetwind("mend", str(faulty))
        assert "2 findings are mended." in said.stdout
        assert "access.table-role: A layout table has no role of presentation." in said.stdout
        assert "2 more findings can be mended after a look; --all or --only takes them." in said.stdout
        assert faulty.read_text() == FAULTY

    def test_rendered(self, tmp_path: Path) -> None:
        """With --render faint letters are mended, which no source shows; without it, --profiles is refused."""
        path = tmp_path / "faint.html"
        path.write_text(
            f"<!doctype html><html lang='en'><head><title>x</title></head><body bgcolor='#ffffff'><p style='color:#aaaaaa'>{COPY}</p></body></html>"
        )
        jetwind("mend", str(path), "--in-place", "--render", "--profiles", "desktop-pane", "--only", "access.contrast")
        assert "<p style='color:#767676'>" in path.read_text()
        said = jetwind("mend", str(path), "--render", "--profiles", "desktop-pane", "--only", "access.contrast")
        assert "0 findings are mended." in said.stdout
        assert "--profiles is used with --render." in jetwind("mend", str(path), "--profiles", "all").stderr

    @pytest.mark.parametrize(
        ("options", "after"),
        [
            ([], SURE),
            (["--sure"], SURE),
            (["--all"], ALL),
            (["--only", "wording.repeated-word"], FAULTY.replace("the the", "the")),
        ],
    )
    def test_written(self, options: list[str], after: str, faulty: Path, tmp_path: Path) -> None:
        """To a file, in place and as a patch the result is the same, and mending it once more changes nothing."""
        out = tmp_path / "mended.html"
        jetwind("mend", str(faulty), "--out", str(out), *options)
        assert out.read_text() == after and faulty.read_text() == FAULTY
        patch = jetwind("mend", str(faulty), "--diff", *options)
        assert "mended." in patch.stderr
        subprocess.run(["git", "apply"], input=patch.stdout, text=True, cwd=tmp_path, check=True)
        assert faulty.read_text() == after
        faulty.write_text(FAULTY)
        faulty.chmod(0o640)
        jetwind("mend", str(faulty), "--in-place", *options)
        assert faulty.read_text() == after and faulty.stat().st_mode & 0o777 == 0o640
        jetwind("mend", str(faulty), "--in-place", *options)
        assert faulty.read_text() == after
        assert sorted(path.name for path in tmp_path.iterdir()) == ["glazes.html", "mended.html"]

    @pytest.mark.parametrize("encoding", ["", "8bit", "quoted-printable", "base64"])
    def test_sarif(self, encoding: str, tmp_path: Path) -> None:
        """Fixes of SARIF 2.1.0 (§3.55), applied here without Jetwind, give the octets that --out writes; the log fits the schema."""
        form = "eml" if encoding else "html"
        path, out = tmp_path / f"a.{form}", tmp_path / f"b.{form}"
        head = f"Subject: Glazes\nFrom: a@kiln.org\nContent-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: {encoding}\n\n"
        source = FAULTY.replace("Twelve", "Café 🏺 twelve").encode()
        body = {"quoted-printable": quopri.encodestring, "base64": base64.encodebytes}.get(encoding, bytes)(source)
        path.write_bytes((head.encode() if encoding else b"") + body)
        log = json.loads(jetwind("mend", str(path), "--sarif", "--all").stdout)
        jsonschema.validate(log, json.loads(SARIF_SCHEMA.read_text()))
        octets = path.read_bytes()
        replaced: list[tuple[int, int, bytes]] = []
        for result in log["runs"][0]["results"]:
            for fix in result.get("fixes", []):
                for change in fix["artifactChanges"]:
                    for one in change["replacements"]:
                        region, content = one["deletedRegion"], one["insertedContent"]
                        if "charOffset" in region:
                            text = path.read_text()
                            start = len(text[: region["charOffset"]].encode())
                            length = len(text[region["charOffset"] : region["charOffset"] + region["charLength"]].encode())
                            replaced.append((start, length, content["text"].encode()))
                        else:
                            replaced.append((region["byteOffset"], region["byteLength"], base64.b64decode(content["binary"])))
        assert len(replaced) == 1 if encoding == "base64" else len(replaced) >= 4
        for start, length, new in sorted(replaced, reverse=True):
            octets = octets[:start] + new + octets[start + length :]
        jetwind("mend", str(path), "--out", str(out), "--all")
        assert octets == out.read_bytes()

    def test_mail(self, tmp_path: Path) -> None:
        """A mail with its HTML in quoted-printable keeps its headers and every other line."""
        path = tmp_path / "a.eml"
        head = "Subject: Glazes\r\nFrom: a@kiln.org\r\nContent-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n"
        path.write_bytes((head + "<table width=3D600><tr><td>caf=C3=A9 =\r\nand words</td></tr></table>\r\n").encode())
        jetwind("mend", str(path), "--in-place", "--only", "access.table-role")
        wanted = head + '<table role=3D"presentation" width=3D600><tr><td>caf=C3=A9 =\r\nand words</td></tr></table>\r\n'
        assert path.read_bytes() == wanted.encode()
        assert read_path(path).html is not None

    @pytest.mark.parametrize(("source", "status"), [(ALL, 1), ("Subject: x\nFrom: a@kiln.org\n\nHello\n", 0)])
    def test_status(self, source: str, status: int, tmp_path: Path) -> None:
        """1 where a stop is left that no machine mends, 0 where none is."""
        path = tmp_path / ("a.html" if source.startswith("<") else "a.eml")
        path.write_text(source)
        assert jetwind("mend", str(path), "--kind", "transactional" if status == 0 else "promotional").returncode == status

    @pytest.mark.parametrize(
        ("arguments", "said"),
        [
            (["--diff", "--in-place"], "--out, --diff, --sarif and --in-place are four ways to write; choose one of them."),
            (["--sure", "--all"], "--sure and --all exclude each other."),
            (["--only", "links.dead-end"], "there is no check"),
            (["--out", "/nowhere/a.html"], "“/nowhere/a.html” cannot be written: No such file or directory."),
        ],
    )
    def test_refused(self, arguments: list[str], said: str, faulty: Path) -> None:
        """One sentence, and nothing is written."""
        done = jetwind("mend", str(faulty), *arguments)
        assert (done.returncode, said in done.stderr, faulty.read_text()) == (2, True, FAULTY)

    def test_no_file(self, tmp_path: Path) -> None:
        """A folder and a path that is not there."""
        for path, why in ((tmp_path, "Is a directory"), (tmp_path / "a.eml", "No such file")):
            done = jetwind("mend", str(path))
            assert done.returncode == 2 and why in done.stderr, done.stderr


class TestFill:
    """Mends that need a word."""

    def test_listed_and_filled(self, tmp_path: Path) -> None:
        """Without the word, the list says what is asked for and what the message suggests; with it, the mend is made."""
        path, words, out = tmp_path / "a.html", tmp_path / "words.toml", tmp_path / "b.html"
        source = f"<html><head><title>x</title></head><body><p>{COPY} Come to us and see what the kiln has made of the clay, and if you want to fire with us, write to us and we will keep a place for you and your pots; it is not far from the quay.</p></body></html>\n"
        path.write_text(source)
        said = jetwind("mend", str(path)).stdout
        assert "can be mended with a word, which --fill gives." in said
        assert "← The language of the copy as a tag of BCP 47, such as en or pt-BR. Such as: en" in said
        words.write_text('"access.lang-missing" = "en-GB"\n')
        assert "1 finding is mended." in jetwind("mend", str(path), "--fill", str(words), "--out", str(out)).stdout
        assert out.read_text() == source.replace("<html>", '<html lang="en-GB">')

    @pytest.mark.parametrize(
        ("words", "why"),
        [
            ('"links.insecure" = "x"', "whose mend needs no word"),
            ('"links.nothing" = "x"', "whose mend needs no word"),
            ('access.lang-missing = "en"', "A check with a dot in its id stands in quotation marks"),
            ("x = ", "cannot be read"),
        ],
    )
    def test_unusable_words(self, words: str, why: str, faulty: Path, tmp_path: Path) -> None:
        """One sentence that names the file, and exit status 2."""
        path = tmp_path / "words.toml"
        path.write_text(words)
        done = jetwind("mend", str(faulty), "--fill", str(path))
        assert (done.returncode, why in done.stderr, "Traceback" in done.stderr) == (2, True, False)

    def test_a_word_that_cannot_stand_there(self, tmp_path: Path) -> None:
        """It is said, and nothing is changed."""
        path, words = tmp_path / "a.html", tmp_path / "words.toml"
        path.write_text(f"<html><head><title>x</title></head><body><p>{COPY}</p></body></html>\n")
        words.write_text('"access.lang-missing" = "english"\n')
        assert "“english” cannot stand there." in jetwind("mend", str(path), "--fill", str(words)).stdout


def test_a_zip(tmp_path: Path) -> None:
    """Its HTML is mended, each other file keeps its octets and its place, and the patch applies where it is unpacked."""
    path, out, folder = tmp_path / "a.zip", tmp_path / "b.zip", tmp_path / "unpacked"
    pot = b"\x89PNG\r\n\x1a\n" + bytes(range(256))
    with zipfile.ZipFile(path, "w") as made:
        made.writestr(zipfile.ZipInfo("pictures/", (2027, 3, 1, 9, 0, 0)), b"")
        made.writestr(zipfile.ZipInfo("pictures/pot.png", (2027, 3, 1, 9, 0, 0)), pot, zipfile.ZIP_STORED)
        made.writestr("glazes.html", FAULTY, zipfile.ZIP_DEFLATED)
        made.writestr("glazes.txt", COPY)
    assert "2 findings are mended." in jetwind("mend", str(path), "--out", str(out)).stdout
    with zipfile.ZipFile(path) as before, zipfile.ZipFile(out) as after:
        assert [(one.filename, one.date_time, one.compress_type) for one in before.infolist()] == [
            (one.filename, one.date_time, one.compress_type) for one in after.infolist()
        ]
        assert {name: after.read(name) for name in after.namelist()} == {
            name: SURE.encode() if name == "glazes.html" else before.read(name) for name in before.namelist()
        }
        before.extractall(folder)
    patch = jetwind("mend", str(path), "--diff").stdout
    subprocess.run(["git", "apply"], input=patch, text=True, cwd=folder, check=True)
    assert (folder / "glazes.html").read_text() == SURE and (folder / "pictures" / "pot.png").read_bytes() == pot
    refused = jetwind("mend", str(path), "--sarif")
    assert (refused.returncode, "A zip has no places for fixes" in refused.stderr) == (2, True)


def test_check_tells_of_mends(faulty: Path, tmp_path: Path) -> None:
    """``check`` says in JSON which findings have a mend; its SARIF has the proven ones as fixes, and an independent hand that makes them gets what mend writes."""
    found = json.loads(jetwind("check", str(faulty), "--format", "json").stdout)["findings"]
    told = {finding["check"]: finding["mend"] for finding in found}
    assert (told["access.table-role"], told["wording.repeated-word"], told["footer.unsubscribe-missing"]) == ("sure", "confirm", None)
    sarif = json.loads(jetwind("check", str(faulty), "--format", "sarif").stdout)
    jsonschema.validate(sarif, json.loads(SARIF_SCHEMA.read_text()))
    results = sarif["runs"][0]["results"]
    fixed = [one for result in results for fix in result.get("fixes", []) for one in fix["artifactChanges"][0]["replacements"]]
    text = FAULTY
    for one in sorted(fixed, key=lambda one: -int(one["deletedRegion"]["charOffset"])):
        start = one["deletedRegion"]["charOffset"]
        text = text[:start] + one["insertedContent"]["text"] + text[start + one["deletedRegion"]["charLength"] :]
    assert text == ALL
    # A zip and a folder have no places for fixes.
    package = tmp_path / "glazes"
    package.mkdir()
    (package / "glazes.html").write_text(FAULTY)
    assert '"fixes"' not in jetwind("check", str(package), "--format", "sarif").stdout


def test_mends_past_the_budget(faulty: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A message whose mends take more than a helper may has its findings all the same, and none of them names a mend."""
    answer = review(read_path(faulty), Context())
    assert "sure" in kinds_bounded(answer, Context(), start="fork").values()
    monkeypatch.setattr("jetwind.engines.bounded.mending.CHECKING", Budget(answer_seconds=0.0, all_seconds=0.0, memory=600_000_000))
    assert kinds_bounded(answer, Context(), start="fork") == {}
