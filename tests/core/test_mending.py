"""Mends: their samples, the octets that they leave alone, what is withheld, and real newsletters."""

from __future__ import annotations

import email
import io
import subprocess
import zipfile
from collections.abc import Callable, Sequence
from dataclasses import replace
from email import policy
from pathlib import Path
from typing import Any

import html5lib
import lxml.html
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from jetwind.core.checking import CheckResult, Context, registry, run, run_check
from jetwind.core.checking.declaration import DeclarationError
from jetwind.core.checking.mends import Change, Mend, MendedPart, MendKind, MendSample, leaves_alone, mend, mends, turns
from jetwind.core.checking.mends import _declared as declared_mends
from jetwind.core.mending import Before, CannotMend, Offer, as_patch, mended, offers_of, shown_of, with_changes
from jetwind.core.message import Message, UnusableInput, read_bytes
from jetwind.core.message.charsets import encode_octets
from jetwind.core.source import Edit, Span, splice
from tests.references import newsletters

SAMPLES = [(one, sample) for own in mends().values() for one in own for sample in one.samples]


def changed(source: str, *edits: tuple[int, int, str], part: MendedPart = "html") -> list[Change]:
    """Changes of a part by start, end and new characters."""
    return [Change(part, Span(start, end), text) for start, end, text in edits]


class TestSamples:
    """Each mend turns its samples into what is declared, and nothing else."""

    @pytest.mark.parametrize(("own", "sample"), SAMPLES, ids=[f"{one.check}-{number}" for number, (one, _) in enumerate(SAMPLES)])
    def test_sample(self, own: Mend, sample: MendSample) -> None:
        """The check finds something; the mend makes the other text of it, in which the mend has nothing to do any more."""
        message, context, raw = sample.before.message(), sample.before.context(), sample.before.source.encode()
        answer = run_check(registry()[own.check], message, context)
        assert answer.findings, "a sample of a mend is one in which the check finds something"
        offers, _ = offers_of(message, context, [answer], {own.check: sample.word})
        octets = with_changes(message, raw, [change for one in offers for change in one.changes])
        assert octets.decode() == (sample.before.source if sample.after is None else sample.after)
        if sample.after is not None:
            again = read_bytes(octets, "a.html" if sample.after.lstrip().startswith("<") else "a.eml", envelope=sample.before.envelope)
            # What was measured of the message as it was says nothing of the mended one: tests/engines/test_mended_looks.py measures that.
            then = replace(context, renders=None) if own.measured else context
            left, _ = offers_of(again, then, [run_check(registry()[own.check], again, then)])
            assert [one for one in left if one.kind is own.kind] == []

    def test_declared_wrongly(self) -> None:
        """A mend without a sample that is left, of another folder, or a second one of a check is refused when it is imported."""
        both = [turns("<table>", "<table>"), leaves_alone("<table>")]

        def nothing(*_: Any) -> Any:
            return iter(())

        nothing.__module__ = "jetwind.core.checks.access.structure"
        for check_id, samples in (("access.table-role", both), ("links.scheme", both), ("access.headings", both[:1])):
            with pytest.raises(DeclarationError):
                mend(check_id, kind=MendKind.SURE, does="It.", leaves="That.", samples=samples)(nothing)


@st.composite
def edited(draw: st.DrawFn, alphabet: str) -> tuple[str, list[Edit]]:
    """A text and edits of it that do not overlap, in any order."""
    text = "".join(draw(st.lists(st.sampled_from([*alphabet, "\r\n", "word " * 20]), min_size=1, max_size=30)))
    # A line end is one thing: nobody changes half of it.
    whole = [at for at in range(len(text) + 1) if text[at - 1 : at + 1] != "\r\n"]
    cuts = sorted(draw(st.lists(st.sampled_from(whole), max_size=8, unique=True)))
    edits = [
        Edit(Span(start, end), draw(st.text(st.sampled_from(alphabet + "=x\t"), max_size=90)))
        for start, end in zip(cuts[::2], cuts[1::2], strict=False)
    ]
    return text, draw(st.permutations(edits))


def as_changes(edits: Sequence[Edit]) -> list[Change]:
    """Edits of the HTML."""
    return [Change("html", one.span, one.text) for one in edits]


class TestOctets:
    """Outside of a change each octet stays."""

    @pytest.mark.parametrize(
        ("charset", "alphabet"),
        [
            ("utf-8", "ab <é“🏺\t"),
            ("windows-1252", "ab <é“\t"),
            ("iso-8859-2", "ab <ľő\t"),
            ("koi8-r", "ab <жщ"),
            ("shift_jis", "ab <窯あ"),
        ],
    )
    @given(data=st.data())
    def test_html(self, charset: str, alphabet: str, data: st.DataObject) -> None:
        """HTML of several charsets: as if the text were changed and written anew; taken back, the octets are those of before."""
        text, edits = data.draw(edited(alphabet))
        text = f'<meta charset="{charset}">{text}'
        edits = [Edit(one.span.shifted(len(text) - len(text[text.index(">") + 1 :])), one.text) for one in edits]
        raw = text.encode(charset)
        message = read_bytes(raw, "a.html")
        assume(message.html is not None and message.html.text == text)
        octets = with_changes(message, raw, as_changes(edits))
        assert octets == splice(text, edits).encode(charset)
        back, shift = [], 0
        for one in sorted(edits, key=lambda edit: edit.span):
            start = one.span.start + shift
            back.append(Edit(Span(start, start + len(one.text)), text[one.span.start : one.span.end]))
            shift += len(one.text) - (one.span.end - one.span.start)
        after = read_bytes(octets, "a.html")
        assume(after.html is not None and after.html.text == splice(text, edits))
        assert with_changes(after, octets, as_changes(back)) == raw

    @pytest.mark.parametrize("encoding", ["8bit", "quoted-printable", "base64"])
    @pytest.mark.parametrize("newline", ["\n", "\r\n"])
    @given(data=st.data())
    def test_mail(self, encoding: str, newline: str, data: st.DataObject) -> None:
        """A part of a mail, read back by the standard library's parser (RFC 2045): the changed text; headers and other parts keep their octets."""
        text, edits = data.draw(edited("ab <é“🏺"))
        raw = self.mail(text, encoding, newline)
        message = read_bytes(raw, "a.eml")
        assert message.html is not None
        assume(message.html.text == text)
        octets = with_changes(message, raw, as_changes(edits))
        read = email.message_from_bytes(octets, policy=policy.compat32)
        (plain, html) = (part.get_payload(decode=True) for part in read.walk() if not part.is_multipart())
        assert html == splice(text, edits).encode()
        assert plain == next(part for part in email.message_from_bytes(raw).walk() if not part.is_multipart()).get_payload(decode=True)
        head, tail = raw.index(b"<<start>>"), raw.index(b"--b--")
        assert octets[:head] == raw[:head] and octets.endswith(raw[tail:])
        if encoding == "quoted-printable":
            assert max(len(line) for line in octets.splitlines()) <= 76

    def mail(self, text: str, encoding: str, newline: str) -> bytes:
        """A mail of two parts whose HTML is written in a transfer encoding."""
        import base64
        import quopri

        octets = text.encode()
        body = {
            "8bit": octets,
            "quoted-printable": b"".join(
                line if line == b"\r\n" else quopri.encodestring(line, quotetabs=True).replace(b"\n", newline.encode())
                for line in octets.replace(b"\r\n", b"\0\r\n\0").split(b"\0")
            ),
            "base64": base64.encodebytes(octets).replace(b"\n", newline.encode()),
        }[encoding]
        head = (
            'Subject: x\nFrom: a@kiln.org\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary="b"\n\n--b\n'
            "Content-Type: text/plain; charset=utf-8\n\nHello <<start>>\n--b\nContent-Type: text/html; charset=utf-8\n"
            f"Content-Transfer-Encoding: {encoding}\n\n"
        )
        return head.replace("\n", newline).encode() + body + f"{newline}--b--{newline}".encode()

    def test_untouched_lines_of_quoted_printable(self) -> None:
        """A long text keeps its own lines but for the changed one, which stays within 76 octets by soft breaks."""
        lines = [f"<p>Line {number} caf=C3=A9 and more words to fill the line up to its end =" for number in range(40)]
        raw = (
            "Subject: x\nContent-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: quoted-printable\n\n" + "\n".join(lines) + "\n"
        )
        message = read_bytes(raw.encode(), "a.eml")
        assert message.html is not None
        at = message.html.text.index("Line 20")
        octets = with_changes(message, raw.encode(), changed("", (at, at + 4, "Another line, é, with words =")))
        old, new = raw.encode().split(b"\n"), octets.split(b"\n")
        assert [line for line in old if line not in new] == [line.encode() for line in lines if "Line 20 " in line]
        assert max(map(len, new)) <= 76

    @pytest.mark.parametrize(
        ("raw", "name", "change", "why"),
        [
            (b"<meta charset=utf-8><p>caf\xff</p>", "a.html", Change("html", Span(0, 0), "x"), "no characters of utf-8"),
            (b"<meta charset=windows-1252><p>x</p>", "a.html", Change("html", Span(0, 0), "\N{SNOWMAN}"), "does not have"),
            (b"Content-Type: text/html\n\n<p>x</p>\n", "a.eml", Change("html", Span(0, 0), "é"), "seven bits"),
            (
                b"Content-Type: text/html\nContent-Transfer-Encoding: x-uuencode\n\nbegin 644 a\n#86)C\n`\nend\n",
                "a.eml",
                Change("html", Span(0, 0), "x"),
                "not written back",
            ),
            (
                b"Content-Type: text/html\nContent-Transfer-Encoding: quoted-printable\n\n<p>=\rx\n</p>\n",
                "a.eml",
                Change("html", Span(0, 0), "x"),
                "not written so",
            ),
            (b"<p>x</p>", "a.html", Change("header", Span(0, 0), "X: y\n"), "given by a person"),
            (b"<p>x</p>", "a.html", Change("text", Span(0, 0), "y"), "no such part"),
            (b"Subject: x\n\nHello\n", "a.eml", Change("header", Span(0, 0), "X: é\n"), "ASCII"),
        ],
    )
    def test_refused(self, raw: bytes, name: str, change: Change, why: str) -> None:
        """Octets that cannot be written back as they were are left alone, in a sentence."""
        with pytest.raises(CannotMend, match=why):
            with_changes(read_bytes(raw, name), raw, [change])

    def test_nothing(self) -> None:
        """Without a change the octets are those of before, whatever they are."""
        raw = b"<meta charset=utf-8><p>caf\xff</p>"
        assert with_changes(read_bytes(raw, "a.html"), raw, []) == raw


@pytest.mark.parametrize("newline", ["\n", "\r\n"])
def test_plain_text_beside_the_html(newline: str) -> None:
    """Mends of headers, of the HTML and of the mail's build at once, read back by the standard library (RFC 2046): all parts are there."""
    html = "<p>Come to the kiln, caf=C3=A9 and all</p><table><tr><td><p>Cups, bowls and jars of this spring are cooling on the quay.</p></td></tr></table>"
    lines = [
        "From: a@kiln.org",
        "Subject: Re: cups",
        "MIME-Version: 1.0",
        'Content-Type: multipart/related; boundary="r"',
        "",
        "--r",
        "X-Kept: as it was",
        "Content-Type: text/html; charset=utf-8",
        "Content-Transfer-Encoding: quoted-printable",
        "",
        html,
        "--r",
        "Content-Type: image/png",
        "Content-ID: <pot>",
        "",
        "not a picture",
        "--r--",
        "",
    ]
    raw = newline.join(lines).encode()
    checks = ["text.missing", "envelope.subject-false-reply", "access.table-role"]

    def judge(one: Message) -> Sequence[CheckResult]:
        return run(one, Context(), checks)

    message = read_bytes(raw, "a.eml")
    before = Before(message, raw, tuple(judge(message)), lambda octets: read_bytes(octets, "a.eml"), judge)
    done = mended(before, [one for one in offers_of(message, Context(), before.results)[0] if one.changes])
    assert sorted(one.check for one in done.taken) == sorted(checks) and not done.withheld
    mail = email.message_from_bytes(done.octets, policy=policy.default)
    assert mail["Subject"] == "cups"
    around, picture = mail.iter_parts()
    plain, marked = around.iter_parts()
    assert around.get_content_type() == "multipart/alternative" and around["X-Kept"] == "as it was"
    assert "Come to the kiln, café and all" in plain.get_content() and "Cups, bowls and jars" in plain.get_content()
    assert '<table role="presentation">' in marked.get_content() and picture["Content-ID"] == "<pot>"
    assert mail.defects == [] and (b"\r\n" in done.octets) == (newline == "\r\n")
    assert done.octets.count(b"\n") == done.octets.count(newline.encode())


def test_plain_text_waits_for_words() -> None:
    """A plain text made from the HTML would copy a word that another mend takes out: it is made in the next run, from the mended words."""
    raw = b"From: a@kiln.org\nSubject: x\nContent-Type: text/html\n\n<p>Come to the the kiln</p>\n"
    checks = ["text.missing", "wording.repeated-word"]

    def judge(one: Message) -> Sequence[CheckResult]:
        return run(one, Context(), checks)

    seen = []
    for _ in range(3):
        message = read_bytes(raw, "a.eml")
        before = Before(message, raw, tuple(judge(message)), lambda octets: read_bytes(octets, "a.eml"), judge)
        done = mended(before, offers_of(message, Context(), before.results)[0])
        seen.append(([one.check for one in done.taken], [(one.check, one.why[:13]) for one in done.withheld]))
        raw = done.octets
    assert seen == [(["wording.repeated-word"], [("text.missing", "It would copy")]), (["text.missing"], []), ([], [])]
    assert raw.count(b"Come to the kiln") == 2


def test_a_result_that_nobody_can_take_in() -> None:
    """A copy that would pass a limit is a reason against its mend, and raises nothing."""
    raw = b"<table><tr><td><p>Twelve glazes, mixed by hand from ash and sea sand, are a fifth off.</p></td></tr></table>"
    message = read_bytes(raw, "a.html")

    def judge(one: Message) -> Sequence[CheckResult]:
        return run(one, Context(), ["access.table-role"])

    def read(octets: bytes) -> Message:
        raise UnusableInput("The file is too large.")

    before = Before(message, raw, tuple(judge(message)), read, judge)
    done = mended(before, offers_of(message, Context(), before.results)[0])
    assert (done.octets, [one.why for one in done.withheld]) == (raw, ["The file is too large."])


def test_what_systems_left_in_a_zip() -> None:
    """Nobody unpacks it, however large it would be; the mended zip is without it."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("__MACOSX/._a.html", bytes(200_000_000))
        made.writestr(
            "a.html", "<table><tr><td><p>Twelve glazes, mixed by hand from ash and sea sand, are a fifth off.</p></td></tr></table>"
        )
    message = read_bytes(out.getvalue(), "a.zip")
    octets = with_changes(message, out.getvalue(), changed("", (6, 6, ' role="presentation"')))
    with zipfile.ZipFile(io.BytesIO(octets)) as mended_zip:
        assert mended_zip.namelist() == ["a.html"] and mended_zip.read("a.html").startswith(b'<table role="presentation">')


class TestOffers:
    """What is not offered, and why."""

    def offered(
        self, source: str, changes: Callable[[Message], list[Change]], monkeypatch: pytest.MonkeyPatch
    ) -> tuple[list[Any], list[str]]:
        """The offers and the reasons of a mend of missing roles that makes these changes."""
        own = Mend("access.table-role", MendKind.SURE, "It.", "That.", lambda message, *_: iter(changes(message)), samples=())
        monkeypatch.setattr("jetwind.core.mending.offers.mends", lambda: {"access.table-role": (own,)})
        message = read_bytes(source.encode(), "a.html")
        offers, withheld = offers_of(message, Context(), run(message, Context(), ["access.table-role"]))
        return offers, [one.why for one in withheld]

    @pytest.mark.parametrize(
        ("at", "why"),
        [
            ("{{ name }}", "It would change a field."),
            ("me }} wi", "It would change a field."),
            ("[if mso]><b>", "It would change a comment, which some clients read."),
        ],
    )
    def test_closed(self, at: str, why: str, monkeypatch: pytest.MonkeyPatch) -> None:
        """Neither fields nor conditional comments are changed."""
        source = "<table><tr><td>Some words {{ name }} with <!--[if mso]><b>x</b><![endif]--> a picture of clay</td></tr></table>"
        start = source.index(at)
        offers, why_not = self.offered(source, lambda _: changed("", (start, start + len(at), "x")), monkeypatch)
        assert (offers, why_not) == ([], [why])

    def test_beside_a_field(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Right before a field and right behind it is no part of it."""
        source = "<table><tr><td>Some words of clay {{ name }} and kilns</td></tr></table>"
        start = source.index("{{")
        offers, _ = self.offered(source, lambda _: changed("", (start, start, "x"), (start + 10, start + 10, "y")), monkeypatch)
        assert len(offers) == 1

    def test_own_overlap(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Changes that overlap are none."""
        source = "<table><tr><td>Some words of clay and kilns</td></tr></table>"
        _, why_not = self.offered(source, lambda _: changed("", (20, 30, "x"), (25, 28, "y")), monkeypatch)
        assert why_not == ["Its own changes overlap."]

    def test_many_changes_take_no_time(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Ten thousand tables are one offer, cut at the limit."""
        source = "<table><tr><td>Some words of clay and kilns " * 10_000
        offers, _ = self.offered(source, lambda _: changed("", *((at, at, "x") for at in range(10_000))), monkeypatch)
        assert [len(one.changes) for one in offers] == [2_000]


class TestProof:
    """A mend that does harm, or no good, is not taken."""

    SOURCE = "<!doctype html><html lang='en'><title>Clay</title><table><tr><td>Some words of clay and of kilns</td></tr></table>"

    def proven(self, *offers: Offer) -> Any:
        """The message with these mends."""
        raw = self.SOURCE.encode()
        message = read_bytes(raw, "a.html")

        def judge(one: Message) -> Sequence[CheckResult]:
            return run(one, Context(), [check for check in registry() if not check.startswith("wording")])

        return mended(Before(message, raw, tuple(judge(message)), lambda octets: read_bytes(octets, "a.html"), judge), offers)

    def offer(self, at: str, text: str, kind: MendKind = MendKind.SURE) -> Offer:
        """A mend of the role that puts a text before a stretch of the source."""
        message = read_bytes(self.SOURCE.encode(), "a.html")
        (finding,) = run_check(registry()["access.table-role"], message, Context()).findings
        start = self.SOURCE.index(at)
        return Offer(
            "access.table-role",
            kind,
            finding.fingerprint,
            (finding.fingerprint,),
            "x",
            does="It.",
            changes=tuple(changed("", (start, start, text))),
        )

    def test_good(self) -> None:
        """The finding is gone."""
        done = self.proven(self.offer("><tr>", " role=none"))
        assert b"<table role=none>" in done.octets and len(done.taken) == 1 and done.withheld == ()

    @pytest.mark.parametrize(
        ("at", "text", "kind", "why"),
        [
            ("<table", "\n", MendKind.SURE, "The finding stays."),
            ("Some", "Hear ", MendKind.SURE, "A reader would read other words."),
            ("<table", "<script>x()</script>", MendKind.CONFIRM, "appearance.active-content would find more than before."),
            ("<table", "\ud800", MendKind.SURE, "The mend needs a character that utf-8 does not have."),
        ],
    )
    def test_bad(self, at: str, text: str, kind: MendKind, why: str) -> None:
        """The octets stay as they are, and the reason is told."""
        done = self.proven(self.offer(at, text, kind))
        assert (done.octets, done.taken, [one.why for one in done.withheld]) == (self.SOURCE.encode(), (), [why])

    def test_a_good_one_beside_a_bad_one(self) -> None:
        """The bad one is left out alone."""
        good, bad = self.offer("><tr>", " role=none"), self.offer("<table", "<script>x()</script>", MendKind.CONFIRM)
        done = self.proven(bad, good)
        assert (done.taken, [one.why for one in done.withheld]) == ((good,), ["appearance.active-content would find more than before."])


class TestPatch:
    """A patch is taken by git, octet by octet."""

    @pytest.mark.parametrize(
        ("before", "after"),
        [
            (b"<p>a</p>\n<p>b</p>\n", b"<p>a</p>\n<p>c</p>\n"),
            (b"<p>a</p>\r\n<p>b</p>\r\n", b"<p>x</p>\r\n<p>b</p>\r\n"),
            (b"<p>caf\xe9</p>\n<p>b</p>", b"<p>caf\xe9</p>\n<p>c</p>"),
            (b"no end", b"no end\n"),
            (b"a\x0cb\x85\n" * 30, b"a\x0cb\x85\n" * 15 + b"--- x\n" + b"a\x0cb\x85\n" * 15),
        ],
    )
    def test_git_apply(self, before: bytes, after: bytes, tmp_path: Path) -> None:
        """git apply (Debian's git) makes the one of the other."""
        (tmp_path / "a b.html").write_bytes(before)
        patch = as_patch(before, after, "a b.html")
        done = subprocess.run(["git", "apply", "--whitespace=nowarn"], input=patch, cwd=tmp_path, capture_output=True, check=False)
        assert done.returncode == 0, done.stderr
        assert (tmp_path / "a b.html").read_bytes() == after

    def test_nothing(self) -> None:
        """The same octets need no patch."""
        assert as_patch(b"a", b"a", "a") == b""


def _tree(element: Any) -> list[tuple[str, dict[str, str], str, str]]:
    return [(str(one.tag), dict(one.attrib), one.text or "", one.tail or "") for one in element.iter()]


def _but_for_roles(tree: list[tuple[str, dict[str, str], str, str]]) -> list[tuple[str, dict[str, str], str, str]]:
    return [
        (tag, {name: value for name, value in names.items() if name != "role" or "table" not in tag}, text, tail)
        for tag, names, text, tail in tree
    ]


def _by_html5lib(text: str) -> Any:
    return html5lib.parse(text, treebuilder="etree")


def _by_lxml(text: str) -> Any:
    return lxml.html.document_fromstring(text.encode(), parser=lxml.html.HTMLParser(encoding="utf-8"))


def test_real_newsletters() -> None:
    """Forty real newsletters with all sure mends: two other HTML parsers read the same tree but for roles of tables and addresses; a second run changes nothing.

    html5lib and lxml (libxml2) are the parsers, both general-purpose.
    """
    checks = [one.check for own in mends().values() for one in own if one.kind is MendKind.SURE]
    found = mended_findings = 0
    for name, raw in [one for one in newsletters() if b"<table" in one[1].lower()][:40]:
        message = read_bytes(raw, "a.eml")
        if message.html is None:
            continue

        def judge(one: Message) -> Sequence[CheckResult]:
            return run(one, Context(), checks)

        before_it = Before(message, raw, tuple(judge(message)), lambda octets: read_bytes(octets, "a.eml"), judge)
        offers = [one for one in offers_of(message, Context(), before_it.results)[0] if one.kind is MendKind.SURE]
        done = mended(before_it, offers)
        found += len(offers)
        mended_findings += len(done.taken)
        assert done.message.html is not None
        before, after = message.html.text, done.message.html.text
        for parse in (_by_html5lib, _by_lxml):
            old, new = _but_for_roles(_tree(parse(before))), _but_for_roles(_tree(parse(after)))
            differ = [(one, other) for one, other in zip(old, new, strict=True) if one != other]
            assert all(set(one[1]) == set(other[1]) and "href" in one[1] for one, other in differ), name
        again = [one for one in offers_of(done.message, Context(), done.results)[0] if one.kind is MendKind.SURE]
        twice = mended(replace(before_it, message=done.message, octets=done.octets, results=done.results), again)
        assert twice.octets == done.octets, name
    print(f"of {found} findings with a sure mend, {mended_findings} were mended")
    assert found > 20 and mended_findings >= 0.95 * found


_MANY = (
    "<html lang='en_GB'><head><title>x</title></head><body><table><tr><td><p>Come to the the kiln, Itâ€™s ready. Скидкa</p>"
    "<p style='font-family:Georgia'>Join us on Monday 9 March 2027, hello@kiln.org</p><a href='https://kiln.org/a b'>Cups and bowls of spring</a>"
    "<a href='tel:+351 234 5678'>Call the studio</a></td></tr></table></body></html>\n"
)


@settings(max_examples=15, deadline=None)
@given(data=st.data())
def test_any_subset_in_any_order(data: st.DataObject) -> None:
    """Mends that are taken together give the octets of the same mends taken one by one, in whatever order."""
    checks = [check for check, own in mends().items() if own[0].kind is not MendKind.FILL]

    def read(octets: bytes) -> Message:
        return read_bytes(octets, "a.html")

    def judge(one: Message) -> Sequence[CheckResult]:
        return run(one, Context(), checks)

    raw = _MANY.encode()
    first = Before(read(raw), raw, tuple(judge(read(raw))), read, judge)
    offers = [one for one in offers_of(first.message, Context(), first.results)[0] if one.changes]
    assert len(offers) >= 8
    chosen = data.draw(st.lists(st.sampled_from(offers), unique=True, min_size=1))
    together = with_changes(first.message, raw, [change for one in chosen for change in one.changes])
    octets = raw
    for wanted in data.draw(st.permutations(chosen)):
        message = read(octets)
        again = [one for one in offers_of(message, Context(), judge(message))[0] if one.check == wanted.check]
        octets = with_changes(message, octets, [change for one in again for change in one.changes])
    assert octets == together


def test_encoded_as_read() -> None:
    """The charsets of the tests above are written by the same table that reads them (Encoding Standard)."""
    assert encode_octets("é", "windows-1252") == b"\xe9"


def test_packed_lines_are_not_shown() -> None:
    """A picture's body is told by its length; words and addresses between are shown as they are."""
    body = ("QUJD" * 18 + "\n") * 40 + "QUI="
    raw = f"Subject: x\nContent-Type: image/png\nContent-Transfer-Encoding: base64\n\n{body}\n".encode()
    message = read_bytes(raw, "a.eml")
    at = raw.index(b"Content-Type")
    shown = shown_of(message, Change("message", Span(at, len(raw) - 1), f"Content-Type: image/gif\n\n{body}"))
    assert shown.new == f"Content-Type: image/gif\n\n… {len(body):,} characters in base64 …"
    assert shown.old.startswith("Content-Type: image/png\n") and "QUJD" not in shown.old


def test_a_mend_that_lacks_something_or_fails(monkeypatch: pytest.MonkeyPatch) -> None:
    """A picture without width that is no picture at all: nothing is offered for it. A mend that raises is withheld, and all others are offered."""
    message = read_bytes(b'<table><tr><td><img src="=cmd.png"><a href="https://kiln.org/a b">x</a></td></tr></table>', "a.html")
    results = run(message, Context())
    assert any(answer.check == "images.no-width" and answer.findings for answer in results)
    offered, withheld = offers_of(message, Context(), results)
    assert "images.no-width" not in {one.check for one in offered} | {one.check for one in withheld}

    def fails(*_: object) -> Any:
        raise RecursionError("deep")

    broken = replace(mends()["links.malformed"][0], changes=fails)
    monkeypatch.setitem(declared_mends, "links.malformed", [broken])
    again, withheld = offers_of(message, Context(), results)
    assert {one.check for one in offered} - {one.check for one in again} == {"links.malformed"}
    assert [one.why for one in withheld if one.check == "links.malformed"] == ["Its mend failed, which is a fault of Jetwind."]
