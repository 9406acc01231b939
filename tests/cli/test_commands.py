"""The command line, called as others call it."""

import base64
import contextlib
import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import dkim
import pytest
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from PIL import Image

from jetwind.cli.telling import KINDS
from jetwind.core.checking import Kind, registry
from jetwind.engines.practice import DOMAIN, RunningPractice
from tests.core.test_log import WHOLE, lines
from tests.factories import GOOD_HTML, archive, mail, package, picture

ROOT = Path(__file__).parents[2]


def jetwind(*arguments: str, more_path: Path | None = None, **more: str) -> subprocess.CompletedProcess[str]:
    """Run a command with no database."""
    path = str(ROOT / "src") if more_path is None else f"{ROOT / 'src'}:{more_path}"
    environment = {"PYTHONPATH": path, "PATH": "/usr/bin:/bin", "HOME": "/tmp", **more}
    return subprocess.run([sys.executable, "-m", "jetwind.cli", *arguments], capture_output=True, text=True, check=False, env=environment)


@pytest.fixture
def good(tmp_path: Path) -> Path:
    """A clean mail."""
    path = tmp_path / "good.eml"
    path.write_bytes(mail())
    return path


@pytest.fixture
def practice(tmp_path: Path) -> Iterator[Path]:
    """The practice field's web; the file that says where it is."""
    with RunningPractice(tmp_path / "practice", pace=0.05) as directory:
        directory.write(tmp_path / "directory.json")
        yield tmp_path / "directory.json"


class TestVerifyLog:
    """The log as lines of JSON."""

    def test_a_log_that_holds_and_one_that_does_not(self, tmp_path: Path) -> None:
        """Status 0 with the newest hash, and 1 with the place; a part of the log is asked for as such."""
        path = tmp_path / "log.jsonl"
        path.write_text("".join(lines(WHOLE)), encoding="utf-8")
        done = jetwind("verify-log", str(path), "--newest", WHOLE[2]["hash"].upper())
        assert (done.returncode, done.stdout) == (0, f"3 entries hold. The newest hash is {WHOLE[2]['hash']}.\n")
        other = jetwind("verify-log", str(path), "--newest", "0" * 64)
        assert (other.returncode, "The newest hash in the file is" in other.stdout) == (1, True)
        path.write_text("".join(lines([WHOLE[0], WHOLE[2]])), encoding="utf-8")
        gap = jetwind("verify-log", str(path))
        assert (gap.returncode, gap.stdout[:48]) == (1, "The log does not hold. Line 2, entry 3: it does ")
        assert jetwind("verify-log", str(path), "--selection").returncode == 0

    @pytest.mark.parametrize("raw", [b"", b"\xff\xfe\x00", b"x" * 3_000_000, b"[" * 100_000])
    def test_no_log(self, tmp_path: Path, raw: bytes) -> None:
        """It does not hold, in one sentence; a file that is not there is refused."""
        (tmp_path / "x").write_bytes(raw)
        done = jetwind("verify-log", str(tmp_path / "x"))
        assert (done.returncode, done.stdout.startswith("The log does not hold. "), done.stderr) == (1, True, "")
        missing = jetwind("verify-log", str(tmp_path / "y"))
        assert (missing.returncode, missing.stderr.startswith("jetwind: “")) == (2, True)


class TestArrived:
    """A copy and the mail that arrived."""

    def files(self, tmp_path: Path, after: bytes) -> tuple[str, str]:
        """A copy, and what came of it."""
        (tmp_path / "copy.eml").write_bytes(mail())
        (tmp_path / "arrived.eml").write_bytes(after)
        return str(tmp_path / "copy.eml"), str(tmp_path / "arrived.eml")

    def test_as_it_was_sent(self, tmp_path: Path) -> None:
        """Nothing differs: status 0."""
        done = jetwind("arrived", *self.files(tmp_path, b"Received: by a.org; Tue, 1 Dec 2026 09:00:00 +0000\r\n" + mail()))
        assert (done.returncode, done.stderr) == (0, "")
        assert "0 stops, 0 fixes, 0 notes" in done.stdout

    def test_what_differs(self, tmp_path: Path) -> None:
        """Findings of the catalogue, in every form of a report: status 1 with a stop."""
        files = self.files(tmp_path, mail(GOOD_HTML.replace("/sale", "/guard"), without=("List-Unsubscribe-Post",)))
        done = jetwind("arrived", *files, "--format", "json")
        told = json.loads(done.stdout)["findings"]
        assert done.returncode == 1
        assert [(one["check"], one["level"]) for one in told] == [
            ("sending.arrival-header-lost", "stop"),
            ("sending.arrival-link-rewritten", "fix"),
        ]
        assert told[1]["data"]["after"] == "https://www.kiln.org/guard"
        assert told[1]["where"]["part"] == "html" and told[1]["where"]["start"]["line"] == 1
        assert jetwind("arrived", *files, "--format", "sarif").returncode == 1

    def test_fixes_alone(self, tmp_path: Path) -> None:
        """No stop: status 0."""
        assert jetwind("arrived", *self.files(tmp_path, mail(GOOD_HTML.replace("/sale", "/guard")))).returncode == 0

    def test_a_broken_signature(self, tmp_path: Path) -> None:
        """Signed by an independent library (dkimpy 1.1.8), changed on the way, verified by a zone file (RFC 6376 §6.1)."""
        key = rsa.generate_private_key(65537, 2048)
        private = key.private_bytes(Encoding.PEM, PrivateFormat.TraditionalOpenSSL, NoEncryption())
        public = base64.b64encode(key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)).decode()
        raw = mail()
        signed = dkim.sign(raw, b"glaze", b"kiln.org", private, include_headers=[b"From", b"Subject"]) + raw
        parts = " ".join(f'"{piece}"' for piece in (f"v=DKIM1; k=rsa; p={public[:180]}", public[180:]))
        (tmp_path / "kiln.zone").write_text(f"$ORIGIN kiln.org.\nglaze._domainkey TXT {parts}\n")
        changed = signed.replace(b"Subject: Twelve", b"Subject: Eleven")
        (tmp_path / "copy.eml").write_bytes(signed)
        (tmp_path / "arrived.eml").write_bytes(changed)
        done = jetwind("arrived", str(tmp_path / "copy.eml"), str(tmp_path / "arrived.eml"), "--zone", str(tmp_path / "kiln.zone"))
        assert "The signature of kiln.org does not hold any more" in done.stdout
        again = jetwind("arrived", str(tmp_path / "copy.eml"), str(tmp_path / "copy.eml"), "--zone", str(tmp_path / "kiln.zone"))
        assert again.returncode == 0 and "signature" not in again.stdout

    @pytest.mark.parametrize("other", ["missing.eml", "page.html", "empty.eml", "folder"])
    def test_unusable(self, tmp_path: Path, other: str) -> None:
        """One sentence that names the file: status 2."""
        (tmp_path / "page.html").write_text("<html><p>x</p></html>")
        (tmp_path / "empty.eml").write_bytes(b"")
        (tmp_path / "folder").mkdir()
        (tmp_path / "copy.eml").write_bytes(mail())
        done = jetwind("arrived", str(tmp_path / "copy.eml"), str(tmp_path / other))
        assert (done.returncode, done.stdout) == (2, "")
        assert other in done.stderr and done.stderr.count("\n") == 1


class TestSenderAndRulebooks:
    """Name records in a file, and rulebooks by name or in a file."""

    ZONE = '$ORIGIN kiln.org.\n@ TXT "v=spf1 ip4:192.0.2.25 -all"\n_dmarc TXT "v=DMARC1; p=reject"\n'
    PAPERS = "sending.spf,sending.spf-lookups,sending.dkim,sending.dmarc,sending.bimi"

    def zone(self, tmp_path: Path) -> str:
        """A zone file."""
        path = tmp_path / "kiln.zone"
        path.write_text(self.ZONE)
        return str(path)

    @pytest.mark.parametrize(
        ("host", "wrong"),
        [
            ("192.0.2.25", {"sending.bimi"}),
            ("203.0.113.9", {"sending.bimi", "sending.spf", "sending.dmarc"}),
            (None, {"sending.bimi"}),
        ],
    )
    def test_name_records_of_a_file(self, good: Path, tmp_path: Path, host: str | None, wrong: set[str]) -> None:
        """A host that may send, one that may not, and none named."""
        named = ["--sending-host", host] if host else []
        done = jetwind("check", str(good), "--format", "json", "--only", self.PAPERS, "--zone", self.zone(tmp_path), *named)
        outcomes = json.loads(done.stdout)["outcomes"]
        assert {name for name, outcome in outcomes.items() if outcome == "findings"} == wrong
        assert outcomes["sending.dkim"].startswith("cannot-tell: the message has no signature yet")
        assert outcomes["sending.spf"].startswith("cannot-tell: no sending host") is (host is None)
        assert done.returncode == int(host == "203.0.113.9")

    def test_without_a_zone_they_cannot_tell(self, good: Path) -> None:
        """And no name server is asked."""
        outcomes = json.loads(jetwind("check", str(good), "--format", "json", "--only", self.PAPERS).stdout)["outcomes"]
        assert {outcome.partition(":")[0] for outcome in outcomes.values()} == {"cannot-tell"}

    @pytest.mark.parametrize(("text", "said"), [("x y z\n", "line 1"), (None, "No such file")])
    def test_a_zone_that_is_none(self, good: Path, tmp_path: Path, text: str | None, said: str) -> None:
        """One line, status 2."""
        path = tmp_path / "bad.zone"
        if text is not None:
            path.write_text(text)
        done = jetwind("check", str(good), "--zone", str(path))
        assert (done.returncode, done.stdout) == (2, "")
        assert said in done.stderr
        assert done.stderr.count("\n") == 1

    def test_the_demand_and_its_source_are_named(self, tmp_path: Path) -> None:
        """In the text report, below what it finds; only of the rulebooks that were chosen."""
        (tmp_path / "a.html").write_text("<p>Sale</p>")
        both = jetwind("check", str(tmp_path / "a.html"), "--only", "footer.address-missing").stdout
        assert "§ United States: A valid postal address of the sender (15 U.S.C. 7704(a)(5)(A)(iii))" in both
        assert "§ Canada: A mailing address of the sender (CASL s. 6(2)(b); SOR/2012-36 s. 2)" in both
        one = jetwind("check", str(tmp_path / "a.html"), "--only", "footer.address-missing", "--rulebook", "canada").stdout
        assert "Canada" in one
        assert "United States" not in one
        assert (
            "footer.address-missing  ("
            not in jetwind("check", str(tmp_path / "a.html"), "--only", "footer.address-missing", "--rulebook", "european-union").stdout
        )

    def test_a_rulebook_of_the_house_in_a_file(self, tmp_path: Path) -> None:
        """Its demands and its words, and no others; by kind and by date."""
        (tmp_path / "a.html").write_text("<p>Sale</p>")
        book = tmp_path / "quay.toml"
        book.write_text('name = "Quay"\ndemands = ["footer.reason-missing"]\nwords = ["Fired by hand"]\nsince = 2027-01-01\n')
        arguments = [
            "check",
            str(tmp_path / "a.html"),
            "--rulebook",
            str(book),
            "--only",
            "footer.reason-missing,footer.house-words,footer.address-missing",
            "--planned",
            "2027-03-01",
        ]
        done = jetwind(*arguments).stdout
        assert "§ Quay: Why the reader gets it (house: Quay)" in done
        assert "“Fired by hand” of “Quay” does not stand in the HTML." in done
        assert "postal address" not in done
        early = jetwind(*arguments[:-1], "2026-12-01").stdout
        assert "Fired by hand" not in early

    @pytest.mark.parametrize(
        ("text", "said"),
        [
            ("name = ", "no TOML"),
            ('name = "x"\ndemands = ["links.empty"]\n', "there is no demand 'links.empty'"),
            (None, "no rulebook and no file"),
        ],
    )
    def test_a_rulebook_that_is_none(self, good: Path, tmp_path: Path, text: str | None, said: str) -> None:
        """One line, status 2."""
        path = tmp_path / "bad.toml"
        if text is not None:
            path.write_text(text)
        done = jetwind("check", str(good), "--rulebook", str(path))
        assert (done.returncode, done.stderr.count("\n")) == (2, 1)
        assert said in done.stderr

    def test_spam_in_json(self, tmp_path: Path) -> None:
        """Score, band, and reasons that add up to it."""
        (tmp_path / "a.eml").write_bytes(mail("<p>Act now! Claim your prize! Buy! Now! Yes!</p>", None, Subject="YOU ARE A WINNER!!"))
        spam = json.loads(jetwind("check", str(tmp_path / "a.eml"), "--format", "json").stdout)["spam"]
        assert spam["band"] == "high"
        assert spam["score"] == pytest.approx(sum(reason["weight"] for reason in spam["reasons"]), abs=0.051)
        assert {"id", "weight", "evidence"} == set(spam["reasons"][0])


class TestLive:
    """Links and pictures that lie elsewhere, on the practice field."""

    PAGE = (
        f"<p><a href='https://answers.{DOMAIN}/redirect/302/3'>Pots</a> <a href='https://answers.{DOMAIN}/404'>Clay</a> "
        f"<a href='https://www.kiln.org/unsubscribe'>Leave</a></p><img src='https://pictures.{DOMAIN}/shelf.png' width='300' height='160' alt='Shelf'>"
        f"<img src='https://pictures.{DOMAIN}/missing.png' width='300' height='160' alt='Wheel'>"
    )

    def test_check(self, tmp_path: Path, practice: Path) -> None:
        """Findings, and every hop ahead of nothing else; what unsubscribes is not opened."""
        (tmp_path / "a.html").write_text(self.PAGE)
        done = jetwind("check", str(tmp_path / "a.html"), "--live", JETWIND_PRACTICE=str(practice))
        assert done.returncode == 1
        for check in ("links.broken", "links.redirect-long", "images.unreachable"):
            assert check in done.stdout
        assert [line.split()[0] for line in done.stdout.splitlines() if " ms " in line] == ["302", "302", "302", "200", "404"]
        assert "not opened: opening it may unsubscribe somebody" in done.stdout
        report = json.loads(jetwind("check", str(tmp_path / "a.html"), "--live", "--format", "json", JETWIND_PRACTICE=str(practice)).stdout)
        way = next(finding["data"]["way"] for finding in report["findings"] if finding["check"] == "links.redirect-long")
        assert [step.split()[0] for step in way] == ["302", "302", "302", "200"]

    def test_render(self, tmp_path: Path, practice: Path) -> None:
        """The picture is there, and the render says which it lacked."""
        (tmp_path / "a.html").write_text(self.PAGE)
        arguments = ["render", str(tmp_path / "a.html"), "--profiles", "desktop-pane", "--out"]
        lacking = {}
        for name, more in (("live", ["--live"]), ("still", [])):
            assert jetwind(*arguments, str(tmp_path / name), *more, JETWIND_PRACTICE=str(practice)).returncode == 0
            lacking[name] = json.loads((tmp_path / name / "render.json").read_text())["renders"][0]["facts"]["lacking"]
        assert lacking["live"] == [f"https://pictures.{DOMAIN}/missing.png"]
        assert len(lacking["still"]) == 2
        with Image.open(tmp_path / "live" / "desktop-pane.png") as live, Image.open(tmp_path / "still" / "desktop-pane.png") as still:
            assert live.size == still.size
            assert live.tobytes() != still.tobytes()

    def test_parameters(self, tmp_path: Path) -> None:
        """Asked for on the command line; what no address can have is refused."""
        (tmp_path / "a.eml").write_bytes(mail("<a href='https://www.kiln.org/sale?campaign=autumn'>Sale</a>"))
        done = jetwind("check", str(tmp_path / "a.eml"), "--parameters", "campaign=spring,medium", "--only", "links.parameters-missing")
        assert "lacks medium" in done.stdout
        done = jetwind("check", str(tmp_path / "a.eml"), "--parameters", "campaign=spring", "--only", "links.parameters-missing")
        assert "campaign of https://www.kiln.org/sale?campaign=autumn is “autumn”, not “spring”." in done.stdout
        done = jetwind("check", str(tmp_path / "a.eml"), "--parameters", "a&b=1")
        assert (done.returncode, done.stdout) == (2, "")
        assert "“a&b” is no name of a parameter" in done.stderr


class TestCheck:
    """Exit status, formats, options."""

    def test_clean_is_zero_and_a_stop_is_one(self, good: Path, tmp_path: Path) -> None:
        """Statuses 0 and 1."""
        assert jetwind("check", str(good)).returncode == 0
        (tmp_path / "bad.html").write_text("<a href='#'>x</a>")
        assert jetwind("check", str(tmp_path / "bad.html")).returncode == 1

    @pytest.mark.parametrize(
        ("arguments", "said"),
        [
            (["check", "nowhere.eml"], "“nowhere.eml” does not exist."),
            (["check"], "check needs a PATH"),
            (["check", "{good}", "--kind", "private"], "'private' is not one of"),
            (["check", "{good}", "--planned", "soon"], "--planned takes a time such as"),
            (["check", "{good}", "--only", "links.emty"], "there is no check 'links.emty'; the nearest is links.empty."),
            (["check", "{good}", "--readers", "nowhere.csv"], "The readers “nowhere.csv” cannot be read"),
            (["check", "{good}", "--brief", "{good}"], "cannot be read"),
            (["check", "{good}", "--profiles", "watch"], "there is no profile 'watch'; there are desktop-pane, desktop-night,"),
            (["check", "{good}", "--brief", "{brief}"], "“Only £24” names the place 'cellar'; there are HTML"),
            (["check", "{good}", "--previous", "nowhere"], "“nowhere” does not exist."),
            (["check", "{good}", "--loud"], "No such option '--loud'"),
            (["render", "{good}"], "Missing option '--out'"),
            (["fly"], "No such command 'fly'"),
        ],
    )
    def test_unusable_is_two_with_one_line(self, good: Path, arguments: list[str], said: str) -> None:
        """One line on standard error that says what and why; nothing on standard output."""
        (good.parent / "brief.toml").write_text('required = [{ text = "Only £24", places = ["cellar"] }]')
        done = jetwind(*(argument.format(good=good, brief=good.parent / "brief.toml") for argument in arguments))
        assert done.returncode == 2
        assert said in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1
        assert done.stdout == ""

    def test_json_alone_on_standard_output(self, good: Path) -> None:
        """Notes go to standard error."""
        done = jetwind("check", str(good), "--format", "json", "--sending-host", "192.0.2.7")
        report = json.loads(done.stdout)
        assert report["findings"] == []
        assert set(report["outcomes"]) == set(registry())
        assert "--sending-host is used with --zone or --live" in done.stderr

    @pytest.mark.parametrize("form", ["sarif", "csv", "text"])
    def test_other_formats(self, good: Path, form: str) -> None:
        """Each gives something of its kind."""
        start = {"sarif": "{", "csv": "check,station,level", "text": "cannot tell: access.alt-unreadable, access.contrast, "}[form]
        assert jetwind("check", str(good), "--format", form).stdout.startswith(start)

    def test_brief_previous_and_planned_time_are_used(self, good: Path, tmp_path: Path) -> None:
        """The brief's wording, the earlier message, the planned time and the readers' zones all reach the checks."""
        brief = tmp_path / "brief.toml"
        brief.write_text(
            'required = ["free testers"]\nforbidden = ["Kiln Quay"]\ntitle = "Copy of spring"\n'
            '[wording]\nwords = ["quay"]\n[envelope]\nsubject_variants = ["A fifth off", "a fifth  OFF"]\n'
        )
        readers = tmp_path / "readers.csv"
        readers.write_text("email,first_name,time_zone\na@kiln.org,Ines,Europe/Lisbon\nb@kiln.org,Tove,\n")
        options = ["--previous", str(good), "--brief", str(brief), "--planned", "2020-03-09T09:00", "--readers", str(readers)]
        report = json.loads(jetwind("check", str(good), *options, "--format", "json").stdout)
        found = {finding["check"] for finding in report["findings"]}
        assert found >= {
            "wording.required-missing",
            "wording.forbidden-present",
            "wording.carried-over",
            "envelope.planned-past",
            "envelope.zone-missing",
            "envelope.variant-duplicate",
            "envelope.title-residue",
        }

    def test_readers_make_the_field_list(self, tmp_path: Path) -> None:
        """Columns are fields; the longest reader counts for the subject; an unknown field is named with the nearest."""
        (tmp_path / "a.eml").write_bytes(mail("<p>Hello {{ frist_name }}, at the quay</p>", Subject="{{ first_name }}, your glazes"))
        (tmp_path / "r.csv").write_text(f"email,first_name\na@kiln.org,Bo\nb@kiln.org,{'Maximiliana' * 6}\n")
        report = json.loads(jetwind("check", str(tmp_path / "a.eml"), "--readers", str(tmp_path / "r.csv"), "--format", "json").stdout)
        found = {finding["check"]: finding for finding in report["findings"]}
        assert found["fields.unknown"]["data"]["name"] == "frist_name"
        assert "first_name" in found["fields.unknown"]["message"]
        assert found["envelope.subject-long"]["data"]["length"] == 79
        assert "b@kiln.org" in found["envelope.subject-long"]["message"]

    def test_brief_names_practice_domains_and_fields(self, tmp_path: Path) -> None:
        """A practice domain is no stand-in address, a declared field is known."""
        (tmp_path / "a.html").write_text("<a href='https://www.kiln.example/{{ code }}'>x</a>")
        (tmp_path / "b.toml").write_text('[practice]\ndomains = ["kiln.example"]\n[fields]\nknown = ["code"]\n')
        plain = json.loads(
            jetwind("check", str(tmp_path / "a.html"), "--format", "json", "--only", "links.placeholder,fields.unknown").stdout
        )
        briefed = json.loads(
            jetwind(
                "check",
                str(tmp_path / "a.html"),
                "--format",
                "json",
                "--only",
                "links.placeholder,fields.unknown",
                "--brief",
                str(tmp_path / "b.toml"),
            ).stdout
        )
        assert plain["outcomes"]["links.placeholder"] == "findings"
        assert briefed["outcomes"] == {"fields.unknown": "clear", "links.placeholder": "clear"}

    def test_folder_zip_and_html(self, tmp_path: Path) -> None:
        """Each form of input is taken."""
        html = '<p>x</p><img src="a.png" alt="Bowl">'
        (tmp_path / "f").mkdir()
        (tmp_path / "f" / "a.html").write_text(html)
        (tmp_path / "f" / "a.png").write_bytes(picture())
        (tmp_path / "f.zip").write_bytes(archive({"a.html": html.encode(), "a.png": picture()}))
        for path in (tmp_path / "f", tmp_path / "f.zip", tmp_path / "f" / "a.html"):
            report = json.loads(jetwind("check", str(path), "--format", "json", "--only", "images.missing").stdout)
            assert report["outcomes"] == {"images.missing": "clear"}
            assert report["message"]["images"] == 1

    def test_explain(self) -> None:
        """What a check is about, without a message."""
        done = jetwind("check", "--explain", "images.heavy")
        assert done.returncode == 0
        assert "Option largest_octets = 204800" in done.stdout
        assert "Basis: Common practice" in done.stdout


class TestRender:
    """One PNG a profile, and what was measured."""

    def test_pictures_and_facts(self, tmp_path: Path) -> None:
        """Sizes, dropped features with places, boxes of links and pictures."""
        html = '<p>x</p><script>1</script><a href="https://k.org">Go</a><img src="a.png" width="50" height="20" alt="x">'
        (tmp_path / "a.zip").write_bytes(package(html, a_dot_png=picture()))
        done = jetwind("render", str(tmp_path / "a.zip"), "--out", str(tmp_path / "out"), "--profiles", "desktop-pane,phone-upright")
        assert done.returncode == 0, done.stderr
        facts = json.loads((tmp_path / "out" / "render.json").read_text())
        assert [(shot["profile"], shot["width"], shot["first_screen"]) for shot in facts["renders"]] == [
            ("desktop-pane", 800, 640),
            ("phone-upright", 390, 664),
        ]
        phone = facts["renders"][1]
        assert Image.open(tmp_path / "out" / "phone-upright.png").size == (780, phone["height"] * 2)
        assert phone["dropped"] == [
            {"feature": "element script", "title": "element script", "count": 1, "places": [{"start": 8, "end": 26, "line": 1}]}
        ]
        assert sorted(box["kind"] for box in phone["boxes"]) == ["image", "link"]

    def test_as_a_reader(self, tmp_path: Path) -> None:
        """Fields are filled, by default for the longest copy; places stay those of the source; a reader that is not there is named."""
        source = '<p>Dear {{ first_name }}, hello</p><p style="color:red" onclick="x()">{{ first_name }}</p>'
        (tmp_path / "a.html").write_text(source)
        (tmp_path / "r.csv").write_text("reader;first_name\nshort;Bo\nlong;Maximiliana-Theodora\n")
        command = ["render", str(tmp_path / "a.html"), "--profiles", "desktop-pane", "--readers", str(tmp_path / "r.csv")]
        letters = {}
        for more, name in (([], "long"), (["--reader", "short"], "short")):
            assert jetwind(*command, "--out", str(tmp_path / name), *more).returncode == 0
            told = json.loads((tmp_path / name / "render.json").read_text())
            assert told["message"]["reader"] == name
            (shot,) = told["renders"]
            letters[name] = shot["facts"]["characters"]
            (dropped,) = [one for one in shot["dropped"] if one["feature"] == "attribute onclick"]
            assert source[dropped["places"][0]["start"] : dropped["places"][0]["end"]] == 'onclick="x()"'
        assert letters["long"] - letters["short"] == 2 * (len("Maximiliana-Theodora") - len("Bo"))
        done = jetwind(*command, "--out", str(tmp_path / "n"), "--reader", "nobody")
        assert done.returncode == 2 and "there is no reader 'nobody'" in done.stderr and "there are short, long." in done.stderr
        done = jetwind("render", str(tmp_path / "a.html"), "--out", str(tmp_path / "n"), "--reader", "x")
        assert done.returncode == 2 and "--reader names one of --readers" in done.stderr

    def test_a_value_that_goes_sideways(self, tmp_path: Path) -> None:
        """Measured in the real browser: a name of eighty letters widens its line on a phone, and is told once, at its field."""
        source = '<!doctype html><html><body style="margin:0"><p style="font-size:16px">Dear {{ first_name }}, hello</p></body></html>'
        (tmp_path / "a.html").write_text(source)
        (tmp_path / "r.csv").write_text(f"reader;first_name\nshort;Bo\nlong;{'m' * 80}\n")
        command = ["check", str(tmp_path / "a.html"), "--render", "--profiles", "phone-upright", "--readers", str(tmp_path / "r.csv")]
        only = ["--only", "fields.overflow,appearance.sideways", "--format", "json"]
        (found,) = json.loads(jetwind(*command, *only).stdout)["findings"]
        assert found["check"] == "fields.overflow" and "of long makes its line" in found["message"]
        assert source[found["start"]["offset"] : found["end"]["offset"]] == "{{ first_name }}" if "start" in found else True
        assert json.loads(jetwind(*command, *only, "--reader", "short").stdout)["findings"] == []

    def test_another_syntax(self, tmp_path: Path) -> None:
        """Described in a file, for checks and renders; the copy of a reader stands ahead of the findings; what is no syntax is refused."""
        (tmp_path / "a.html").write_text("<p>Dear &lt;&lt;first_name|friend&gt;&gt;, <<if member>>your slot<<else>>come<<end>></p>")
        (tmp_path / "s.toml").write_text(
            'name = "Angles"\nopen = "<<"\nclose = ">>"\ndefault = "|"\nif = ["if"]\nelse = ["else"]\nend = ["end"]\n'
        )
        (tmp_path / "r.csv").write_text("reader;first_name;member\nTove;Tove;yes\nNils;;\n")
        command = [
            "check",
            str(tmp_path / "a.html"),
            "--syntax",
            str(tmp_path / "s.toml"),
            "--readers",
            str(tmp_path / "r.csv"),
            "--only",
            "fields.foreign",
        ]
        done = jetwind(*command, "--reader", "Nils")
        assert "As Nils gets it" in done.stdout and "    Dear friend, come" in done.stdout
        assert "fields.foreign" not in done.stdout
        assert "    Dear Tove, your slot" in jetwind(*command, "--reader", "Tove").stdout
        (tmp_path / "s.toml").write_text('open = "<<"\nclose = ">>"\n')
        done = jetwind(*command)
        assert done.returncode == 2 and "a syntax has a name of 1 to 40 characters" in done.stderr

    def test_blocked_and_chosen(self, tmp_path: Path) -> None:
        """One profile, images off."""
        (tmp_path / "a.html").write_text('<img src="a.png" alt="Bowl" width="50" height="40">')
        assert (
            jetwind(
                "render", str(tmp_path / "a.html"), "--out", str(tmp_path / "o"), "--profiles", "phone-upright", "--images", "off", "--dark"
            ).returncode
            == 0
        )
        (shot,) = json.loads((tmp_path / "o" / "render.json").read_text())["renders"]
        assert (shot["images"], shot["dark"], shot["profile"]) == ("off", True, "phone-upright")


BROKEN = """
from dataclasses import replace
from jetwind.cli.telling import KINDS
from jetwind.core.checking import Kind, registry
def find(message, context, options):
    raise ZeroDivisionError("by\x1b[31m design")
    yield
known = registry()
known["links.empty"] = replace(known["links.empty"], find=find)
"""


class TestWordsInPictures:
    """With a program that stands in for tesseract: it says the same of every picture, and how it was asked."""

    PROGRAM = """#!/bin/sh
case "$1" in
  --version) echo "tesseract 5.3.0" ;;
  --list-langs) printf 'List of available languages (3):\\nosd\\neng\\ndeu\\n' ;;
  *) echo "$@" >> "$0.asked"; head -c 4 >> "$0.asked"
     printf 'level\\tpage_num\\tblock_num\\tpar_num\\tline_num\\tword_num\\tleft\\ttop\\twidth\\theight\\tconf\\ttext\\n'
     for word in Spring glazes; do printf '5\\t1\\t1\\t1\\t1\\t1\\t1\\t1\\t9\\t9\\t96\\t%s\\n' "$word"; done ;;
esac
"""

    def checked(self, tmp_path: Path, alternative: str, *arguments: str, program: str = PROGRAM) -> subprocess.CompletedProcess[str]:
        """A message with one picture, twice in it, and a spacer."""
        own = tmp_path / "reads"
        own.write_text(program)
        own.chmod(0o755)
        html = (
            f"<p>Hello from the quay.</p><img src='a.png' alt='{alternative}'><img src='a.png' alt='{alternative}'><img src='b.png' alt=''>"
        )
        files = {"a.html": html.encode(), "a.png": picture(200, 100), "b.png": picture(2, 2)}
        (tmp_path / "a.zip").write_bytes(archive(files))
        return jetwind("check", str(tmp_path / "a.zip"), "--only", "access.alt-words", *arguments, JETWIND_TESSERACT=str(own))

    def test_read_and_told(self, tmp_path: Path) -> None:
        """Each picture once, as a grey PNG, in the languages that are there; what is left out is told with who read it."""
        told = self.checked(tmp_path, "A pot", "--read-pictures").stdout
        assert "a.png shows words that its alternative text leaves out: “Spring glazes” (read by tesseract 5.3.0 (eng, deu))." in told
        assert (tmp_path / "reads.asked").read_bytes() == b"stdin stdout -l eng+deu --psm 11 tsv\n\x89PNG"
        assert "1 fix" not in self.checked(tmp_path, "Spring glazes", "--read-pictures").stdout

    def test_who_cannot_read(self, tmp_path: Path) -> None:
        """Not asked for, not installed, no answer: three reasons."""
        assert "--read-pictures reads them" in self.checked(tmp_path, "A pot").stdout
        assert "tesseract is not installed" in self.checked(tmp_path, "A pot", "--read-pictures", program="#!/bin/sh\nexit 1\n").stdout
        broken = self.PROGRAM.replace("*) echo", "*) exit 3; echo")
        assert "0 fixes" in self.checked(tmp_path, "A pot", "--read-pictures", program=broken).stdout


class TestFailingInside:
    """Jetwind's own failures are no stop of the message: exit status 3 and one line that names the check or the stage."""

    def test_a_check_that_crashes(self, tmp_path: Path) -> None:
        """The rest of the report is printed all the same."""
        (tmp_path / "sitecustomize.py").write_text(BROKEN)
        (tmp_path / "a.html").write_text("<p>Lorem ipsum dolor sit amet</p>")
        done = jetwind("check", str(tmp_path / "a.html"), "--format", "json", more_path=tmp_path)
        assert done.returncode == 3
        assert done.stderr.splitlines()[-1] == "jetwind: failed at links.empty: ZeroDivisionError: by [31m design"
        report = json.loads(done.stdout)
        assert report["outcomes"]["links.empty"].startswith("crashed: ZeroDivisionError")
        assert [finding["check"] for finding in report["findings"] if finding["check"] == "wording.placeholder"]

    def test_a_stage_that_fails(self, tmp_path: Path) -> None:
        """The stage is named; nothing was found."""
        (tmp_path / "sitecustomize.py").write_text(
            "import jetwind.engines.bounded as b\ndef no(*a, **k): raise RuntimeError('no room')\nb.review_bounded = no"
        )
        (tmp_path / "a.html").write_text("<p>x</p>")
        done = jetwind("check", str(tmp_path / "a.html"), more_path=tmp_path)
        assert (done.returncode, done.stdout, done.stderr) == (3, "", "jetwind: failed at running the checks: RuntimeError: no room\n")

    def test_a_reader_that_goes_away(self, good: Path) -> None:
        """A closed pipe is nobody's fault: no traceback."""
        environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin", "HOME": "/tmp"}
        command = f"{sys.executable} -m jetwind.cli check {good} --format json | true"
        done = subprocess.run(["/bin/sh", "-c", command], capture_output=True, text=True, check=False, env=environment)
        assert done.stderr == ""

    def test_devices_pipes_and_huge_folders(self, tmp_path: Path) -> None:
        """Refused before anything is read; a pipe in a folder is left out."""
        os.mkfifo(tmp_path / "pipe")
        for path in ("/dev/zero", str(tmp_path / "pipe")):
            done = jetwind("check", path)
            assert (done.returncode, done.stderr) == (2, f"jetwind: “{path}” is neither a file nor a folder.\n")
        folder = tmp_path / "message"
        folder.mkdir()
        (folder / "a.html").write_text("<p>Come to the kiln</p>")
        os.mkfifo(folder / "pipe")
        assert jetwind("check", str(folder), "--only", "links.empty").returncode == 0
        with (folder / "huge.png").open("wb") as huge:
            huge.truncate(40_000_000_000)
        done = jetwind("check", str(folder))
        assert (done.returncode, "holds 38147 MB" in done.stderr or "the largest that can be taken in" in done.stderr) == (2, True)

    @pytest.mark.parametrize("form", ["text", "json", "html", "csv", "sarif"])
    def test_a_full_disk(self, good: Path, form: str) -> None:
        """One sentence."""
        environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin", "HOME": "/tmp"}
        with Path("/dev/full").open("w") as full:
            command = [sys.executable, "-m", "jetwind.cli", "check", str(good), "--format", form]
            done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, text=True, check=False, env=environment)
        assert (done.returncode, done.stderr) == (2, "jetwind: the report cannot be written: No space left on device.\n")

    def test_something_in_the_way(self, good: Path, tmp_path: Path) -> None:
        """Said before anything is rendered."""
        (tmp_path / "out" / "render.json").mkdir(parents=True)
        done = jetwind("render", str(good), "--out", str(tmp_path / "out"), "--profiles", "desktop-pane")
        assert (done.returncode, "render.json” is in the way" in done.stderr) == (2, True)
        (tmp_path / "file").write_text("x")
        done = jetwind("render", str(good), "--out", str(tmp_path / "file"), "--profiles", "desktop-pane")
        assert (done.returncode, "cannot be made: File exists" in done.stderr) == (2, True)

    @pytest.mark.parametrize("form", ["text", "csv", "html"])
    def test_control_characters_stay_in_the_message(self, tmp_path: Path, form: str) -> None:
        """What a terminal would obey is shown by its number."""
        (tmp_path / "a.eml").write_bytes(
            mail("<p>x</p><a href='#\x1b]0;owned\x07'>\x1b[31mred\x9b2J</a><img src='\x1b[2J.png'>", Subject="a\x1b[2Jb")
        )
        done = jetwind("check", str(tmp_path / "a.eml"), "--format", form)
        assert not [char for char in done.stdout if (ord(char) < 32 and char not in "\r\n\t") or 127 <= ord(char) < 160]

    @pytest.mark.parametrize("address", ["kiln.org", "300.1.1.1", ""])
    def test_a_sending_host_that_is_none(self, good: Path, address: str) -> None:
        """Refused."""
        done = jetwind("check", str(good), "--sending-host", address)
        assert (done.returncode, "takes an IP address" in done.stderr) == (2, True)
        assert jetwind("check", str(good), "--sending-host", "2001:db8::7").returncode == 0

    @pytest.mark.parametrize("command", [["check"], ["check", "--render"], ["render", "--out", "out"]])
    def test_ctrl_c(self, tmp_path: Path, command: list[str]) -> None:
        """Heard in the middle of the work: status 130, no traceback, nothing left running."""
        (tmp_path / "a.html").write_text("<p>Come to the kiln by the quay</p>" * 20_000)
        environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin", "HOME": str(tmp_path)}
        process = subprocess.Popen(
            [sys.executable, "-m", "jetwind.cli", *command[:1], str(tmp_path / "a.html"), *command[1:]],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env=environment,
            cwd=tmp_path,
            start_new_session=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        # By then it reads, checks or renders, wherever a machine of any speed has come to.
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(2.5)
        os.killpg(process.pid, signal.SIGINT)
        _, said = process.communicate(timeout=60)
        assert (process.returncode, said) == (130, "")
        with pytest.raises(ProcessLookupError):
            os.killpg(process.pid, 0)

    def test_it_is_told(self) -> None:
        """In --help."""
        assert "3: Jetwind itself failed" in " ".join(jetwind("check", "--help").stdout.split())


class TestChecksOverRenders:
    """``check --render`` without a server or a database."""

    def test_faults_that_only_a_render_shows(self, tmp_path: Path) -> None:
        """Sideways, faint, small: told with profiles; the loss of a style with its places; exit status 1 for the stop."""
        (tmp_path / "a.html").write_text(
            "<!doctype html><html lang=en><head><meta charset=utf-8><title>t</title></head><body>"
            "<table width=700><tr><td><p style='color:#aaa'>Words that are hard to read</p>"
            "<div style='display:flex'><p>beside</p><p>each other</p></div></td></tr></table>"
        )
        done = jetwind(
            "check", str(tmp_path / "a.html"), "--render", "--profiles", "desktop-pane,word-processor,phone-webmail", "--format", "json"
        )
        assert done.returncode == 1, done.stderr
        report = json.loads(done.stdout)
        told = {finding["check"]: finding for finding in report["findings"]}
        assert told["appearance.sideways"]["data"]["profile_ids"] == ["phone-webmail"]
        assert told["access.contrast"]["data"]["contrast"] == "2.32"
        lost = told["appearance.css-unsupported"]
        assert lost["data"]["feature"] == "css-display"
        assert lost["where"]["start"]["line"] == 1
        assert report["outcomes"]["appearance.images-off-empty"] == "cannot-tell: no chosen profile is one with images blocked"
        assert report["outcomes"]["appearance.blank"] == "clear"

    def test_without_render_they_cannot_tell(self, good: Path) -> None:
        """And a choice of profiles without a render is said to have no use."""
        done = jetwind("check", str(good), "--profiles", "phone-webmail", "--only", "appearance.sideways", "--format", "json")
        assert json.loads(done.stdout)["outcomes"]["appearance.sideways"].startswith("cannot-tell: it needs a render")
        assert "--profiles is used with --render" in done.stderr

    def test_a_clean_message_in_the_usual_profiles(self, good: Path) -> None:
        """Nothing but what stands in the message: no finding of appearance or access."""
        done = jetwind("check", str(good), "--render", "--format", "json")
        report = json.loads(done.stdout)
        assert [one["check"] for one in report["findings"] if one["check"].startswith(("appearance.", "access."))] == []
        assert not [outcome for outcome in report["outcomes"].values() if outcome.startswith("crashed")]

    def test_what_each_profile_did_is_in_the_facts(self, tmp_path: Path) -> None:
        """All profiles, with what was dropped, altered and added, by feature, with the lines."""
        (tmp_path / "a.html").write_text("<p style='color:#000'>x</p>\n<p style='padding:4px'>y</p>\n<!--[if mso]><p>z</p><![endif]-->")
        done = jetwind("render", str(tmp_path / "a.html"), "--out", str(tmp_path / "o"), "--profiles", "word-processor-night")
        assert done.returncode == 0, done.stderr
        (shot,) = json.loads((tmp_path / "o" / "render.json").read_text())["renders"]
        assert {one["feature"]: [place["line"] for place in one["places"]] for one in shot["dropped"]} == {"css-padding": [2]}
        assert {one["feature"]: [place["line"] for place in one["places"]] for one in shot["altered"]} == {"night": [1]}
        assert {one["feature"] for one in shot["added"]} == {"conditional", "night"}
        assert shot["viewport"] == {"width": 1000, "height": 620}
        assert (shot["dark"], shot["images"], shot["facts"]["characters"]) == (True, "on", 3)


#: A check that never ends, in the place of one that does.
ENDLESS = '''
from dataclasses import replace
from jetwind.cli.telling import KINDS
from jetwind.core.checking import Kind, registry
from jetwind.engines.bounded import Budget, reviewing
def find(message, context, options):
    """Links lead somewhere."""
    while True:
        pass
    yield
known = registry()
known["links.empty"] = replace(known["links.empty"], find=find)
reviewing.review_bounded.__kwdefaults__["budget"] = Budget(1.0, 4.0, 600_000_000)
'''


class TestNotEverything:
    """What was not looked at to the end never passes for clear."""

    @pytest.mark.parametrize("form", ["text", "json", "sarif", "csv", "html"])
    def test_a_check_that_runs_out(self, good: Path, tmp_path: Path, form: str) -> None:
        """A message without a stop: status 1, a line that names the check, and a summary that says so where the form has one."""
        (tmp_path / "sitecustomize.py").write_text(ENDLESS)
        done = jetwind("check", str(good), "--only", "links.empty,links.insecure", "--format", form, more_path=tmp_path)
        assert done.returncode == 1
        assert done.stderr.splitlines()[-1] == "jetwind: not everything was checked: links.empty ran out of time or memory"
        if form == "text":
            assert "Not everything was checked: 1 check looked at nothing to the end (links.empty)." in done.stdout
            assert "ran out: links.empty (took longer than 1 s)" in done.stdout
        if form == "sarif":
            [invocation] = json.loads(done.stdout)["runs"][0]["invocations"]
            assert invocation["executionSuccessful"] is False
            assert invocation["toolExecutionNotifications"][0]["descriptor"] == {"id": "links.empty"}
        if form == "html":
            assert "ran out" in done.stdout
        if form == "json":
            report = json.loads(done.stdout)
            assert report["unlooked"] == ["links.empty"]
            assert report["outcomes"] == {"links.empty": "ran-out: took longer than 1 s", "links.insecure": "clear"}

    def test_everything(self, good: Path) -> None:
        """A message that is looked at to the end says nothing of it."""
        done = jetwind("check", str(good))
        assert (done.returncode, "verything" in done.stdout + done.stderr) == (0, False)


class TestFilesWithoutEnd:
    """What describes a check is read within a limit, wherever it is named: status 2 with one sentence, at once."""

    @pytest.fixture
    def places(self, tmp_path: Path) -> dict[str, str]:
        """Files that never end, or not soon."""
        os.mkfifo(tmp_path / "pipe")
        with (tmp_path / "disk").open("wb") as disk:
            disk.truncate(400_000_000_000)
        (tmp_path / "folder").mkdir()
        return {"device": "/dev/zero", "pipe": str(tmp_path / "pipe"), "disk": str(tmp_path / "disk"), "folder": str(tmp_path / "folder")}

    @pytest.mark.parametrize("option", ["--brief", "--syntax", "--rulebook", "--zone", "--readers"])
    @pytest.mark.parametrize("place", ["device", "pipe", "disk", "folder"])
    def test_refused(self, good: Path, places: dict[str, str], option: str, place: str) -> None:
        """Nothing is waited for, and nothing fills the memory."""
        command = [sys.executable, "-m", "jetwind.cli", "check", str(good), option, places[place]]
        environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin", "HOME": "/tmp"}
        done = subprocess.run(command, capture_output=True, text=True, check=False, env=environment, timeout=30)
        assert (done.returncode, done.stdout, len(done.stderr.splitlines())) == (2, "", 1), done.stderr
        assert places[place] in done.stderr

    @pytest.mark.parametrize(
        ("option", "text", "said"),
        [
            ("--brief", "a = " + "[" * 9_000 + "]" * 9_000, "nested too deeply"),
            ("--syntax", "a = " + "{b = " * 4_000 + "1" + "}" * 4_000, "nested too deeply"),
            ("--rulebook", "a = " + "[" * 9_000 + "]" * 9_000, "nested too deeply"),
            ("--readers", "[" * 90_000, "it is no JSON"),
            ("--brief", "title = " + "9" * 9_000, "digits"),
            ("--readers", '[{"a": ' + "9" * 9_000 + "}]", "digits"),
            ("--rulebook", 'name = "x"\nwords = ["a"]\nsince = 0999-01-01', "days are of the years 1970 to 2999, not of 999"),
            ("--zone", "$GENERATE 1-1000000000 host$ A 192.0.2.1\n", "line"),
            ("--zone", "$INCLUDE /dev/zero\n", "line"),
            ("--brief", b'title = "\xff"', "no text in UTF-8"),
        ],
    )
    def test_what_is_in_them(self, good: Path, tmp_path: Path, option: str, text: str | bytes, said: str) -> None:
        """Nested deeply, huge numbers, days of another age, records by the thousand million: one sentence."""
        path = tmp_path / "given"
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        done = jetwind("check", str(good), option, str(path))
        assert (done.returncode, said in done.stderr, "Traceback" in done.stderr) == (2, True, False), done.stderr

    @pytest.mark.parametrize("when", ["0001-01-01T00:00:00+14:00", "0999-12-31T00:00", "9999-12-31T23:59:59-12:00"])
    def test_times_of_another_age(self, good: Path, when: str) -> None:
        """No zone can be reckoned with there."""
        done = jetwind("check", str(good), "--planned", when)
        assert (done.returncode, "takes a time of the years 1970 to 2999" in done.stderr) == (2, True)


class TestQuickStart:
    """A command loads what it needs. What is loaded is counted, not the time."""

    def loaded(self, *arguments: str) -> set[str]:
        """The modules of Jetwind that a command has loaded at its end."""
        program = (
            "import atexit, json, sys\n"
            "atexit.register(lambda: print(json.dumps(sorted(name for name in sys.modules if name.startswith('jetwind'))), file=sys.stderr))\n"
            f"sys.argv = ['jetwind', *{list(arguments)!r}]\n"
            "from jetwind.cli.main import main\n"
            "main()\n"
        )
        environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin", "HOME": "/tmp"}
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=False, env=environment)
        return set(json.loads(done.stderr.splitlines()[-1]))

    @pytest.mark.parametrize("arguments", [("--help",), ("check", "--help"), ("render", "--help"), ("check", "--format", "x")])
    def test_help_loads_nothing_of_the_core(self, arguments: tuple[str, ...]) -> None:
        """Only the command line itself."""
        assert self.loaded(*arguments) == {
            "jetwind",
            "jetwind.cli",
            "jetwind.cli.main",
            "jetwind.cli.mending",
            "jetwind.cli.telling",
            "jetwind.cli.verifying",
        }

    def test_explaining_loads_one_check(self) -> None:
        """The module that declares it, and what that one needs: no module of another group."""
        checks = {name for name in self.loaded("check", "--explain", "links.empty") if name.startswith("jetwind.core.checks.")}
        assert checks and all(name.startswith("jetwind.core.checks.links") or name.count(".") == 3 for name in checks), checks
        assert not any(name.startswith("jetwind.core.spam") for name in self.loaded("check", "--explain", "links.empty"))

    def test_every_check_is_found_alone(self) -> None:
        """By its id in the source, without the registry of all."""
        program = (
            "import sys\nfrom jetwind.core.checking.registry import declared_as\n"
            "print(*[name for name in sys.argv[1:] if (found := declared_as(name)) is None or found.id != name])\n"
        )
        environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/bin:/bin"}
        done = subprocess.run([sys.executable, "-c", program, *registry()], capture_output=True, text=True, check=True, env=environment)
        assert done.stdout.split() == []

    def test_kinds(self) -> None:
        """The command line has the core's kinds without loading it."""
        assert tuple(kind.value for kind in Kind) == KINDS


class TestVerifyingAPackage:
    """``verify`` says what holds and what does not, and its exit status says so too."""

    @pytest.fixture
    def leaving(self, tmp_path: Path) -> Path:
        """A package with its key beside it."""
        from jetwind.core.package import new_private_key, package_of, public_half

        private = new_private_key()
        (tmp_path / "p.zip").write_bytes(package_of([("message.eml", b"Subject: Sale\r\n\r\nHello\r\n")], private))
        (tmp_path / "key.pem").write_text(public_half(private))
        (tmp_path / "other.pem").write_text(public_half(new_private_key()))
        return tmp_path / "p.zip"

    def test_it_holds(self, leaving: Path) -> None:
        """Each file is told, and with which key."""
        said = jetwind("verify", str(leaving))
        assert (said.returncode, said.stderr) == (0, "")
        assert said.stdout.splitlines()[0] == "holds  message.eml"
        assert "compare it with the one of the workspace's Settings" in said.stdout.splitlines()[-1]
        said = jetwind("verify", str(leaving), "--key", str(leaving.parent / "key.pem"))
        assert said.returncode == 0 and "the key that you gave" in said.stdout

    def test_it_does_not(self, leaving: Path) -> None:
        """A changed octet names its file; another key is told."""
        data = leaving.read_bytes()
        leaving.write_bytes(data.replace(b"Hello", b"Hallo"))
        said = jetwind("verify", str(leaving))
        assert (said.returncode, said.stderr) == (1, "")
        assert "DOES NOT HOLD  message.eml" in said.stdout and said.stdout.endswith("The package does not hold.\n")
        leaving.write_bytes(data)
        said = jetwind("verify", str(leaving), "--key", str(leaving.parent / "other.pem"))
        assert said.returncode == 1 and "The package brings another key" in said.stdout

    def test_what_cannot_be_read(self, leaving: Path) -> None:
        """A file that is not there, a key that is none, a package that is no zip."""
        said = jetwind("verify", "/nowhere/p.zip")
        assert said.returncode == 2 and "“/nowhere/p.zip” cannot be read" in said.stderr
        said = jetwind("verify", str(leaving), "--key", str(leaving))
        assert said.returncode == 2 and "cannot be used: This is no public key in PEM." in said.stderr
        (leaving.parent / "x.zip").write_text("x")
        said = jetwind("verify", str(leaving.parent / "x.zip"))
        assert said.returncode == 1 and "the directory of the zip" in said.stdout
