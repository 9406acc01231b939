"""Mails of any quality to a Message."""

import re
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.checking import Context, Outcome
from jetwind.core.message import UnusableInput, read_bytes
from jetwind.core.message.words import decode_words
from jetwind.core.message.write import to_eml
from jetwind.core.prose.plain import with_plain_text
from jetwind.core.reports import as_csv, as_json, as_sarif, as_text, review
from jetwind.engines.dictionaries import Installed
from tests.factories import mail, picture

CPYTHON = sorted((Path(__file__).parents[1] / "vectors" / "cpython-email").glob("msg_*.txt"))


class TestForeignMessages:
    """CPython's own e-mail test data: tests/vectors/README.md."""

    def test_the_collection_is_whole(self) -> None:
        """47 files, as the Debian package holds them."""
        assert len(CPYTHON) == 47

    @pytest.mark.parametrize("path", CPYTHON, ids=lambda path: path.stem)
    def test_intake_and_all_checks_and_reports(self, path: Path) -> None:
        """Every message is read, checked and reported without a crash; the one without headers is refused with a sentence."""
        if path.stem == "msg_19":
            with pytest.raises(UnusableInput, match="does not start with mail headers"):
                read_bytes(path.read_bytes(), f"{path.stem}.eml")
            return
        result = review(read_bytes(path.read_bytes(), f"{path.stem}.eml"), Context(dictionaries=Installed()))
        assert [answer for answer in result.results if answer.outcome is Outcome.CRASHED] == []
        for report in (as_json(result, {}), as_text(result), as_csv(result.findings), as_sarif(result, path.name)):
            assert report

    def test_the_first_text_of_many_is_read(self) -> None:
        """msg_10 has a part in each transfer encoding; the first text is read."""
        message = read_bytes((CPYTHON[0].parent / "msg_10.txt").read_bytes(), "x.eml")
        assert message.text is not None
        assert "This is a 7bit encoded message." in message.text.text


class TestEncodedWords:
    """RFC 2047 section 8, the standard's own examples."""

    @pytest.mark.parametrize(
        ("source", "shown"),
        [
            ("(=?ISO-8859-1?Q?a?=)", "(a)"),
            ("(=?ISO-8859-1?Q?a?= b)", "(a b)"),
            ("(=?ISO-8859-1?Q?a?= =?ISO-8859-1?Q?b?=)", "(ab)"),
            ("(=?ISO-8859-1?Q?a?=  =?ISO-8859-1?Q?b?=)", "(ab)"),
            ("(=?ISO-8859-1?Q?a?=\r\n    =?ISO-8859-1?Q?b?=)", "(ab)"),
            ("(=?ISO-8859-1?Q?a_b?=)", "(a b)"),
            ("(=?ISO-8859-1?Q?a?= =?ISO-8859-2?Q?_b?=)", "(a b)"),
        ],
    )
    def test_examples_of_the_standard(self, source: str, shown: str) -> None:
        """White space between encoded-words vanishes, other white space stays."""
        assert decode_words(source) == shown

    @pytest.mark.parametrize("source", ["=?utf-8?q?=C3?=", "=?nonsense?q?a?=", "=?utf-8?b?!!!?=", "=?utf-8?x?a?=", "=?=", "plain"])
    def test_broken_words_never_raise(self, source: str) -> None:
        """Something is shown whatever came in."""
        assert isinstance(decode_words(source), str)


class TestHeaders:
    """Header fields with their places."""

    def test_folded_header_has_its_whole_place(self) -> None:
        """The span covers all its lines, and reads back."""
        message = read_bytes(b"From: a@kiln.org\r\nSubject: one\r\n two\r\nTo: b@kiln.org\r\n\r\nx", "x.eml")
        header = message.header("subject")
        assert header is not None
        assert header.value == "one two"
        assert header.span is not None
        assert message.header_source.slice(header.span) == "Subject: one\r\n two"

    def test_mailboxes_of_lists_and_groups(self) -> None:
        """Quoted commas and groups are understood (RFC 5322 §3.4)."""
        message = read_bytes(b'To: "Doe, Jane" <j@kiln.org>, Team: a@kiln.org, b@kiln.org;\nSubject: x\n\nx', "x.eml")
        assert [box.address for box in message.mailboxes("To")] == ["j@kiln.org", "a@kiln.org", "b@kiln.org"]
        assert message.mailboxes("To")[0].name == "Doe, Jane"


class TestParts:
    """HTML, plain text, pictures, attachments."""

    def test_related_picture_is_found_by_content_id(self) -> None:
        """RFC 2392: the reference is percent-encoded, the header is not."""
        message = read_bytes(mail('<img src="cid:bowl%40kiln.org" alt="x">', images={"bowl@kiln.org": picture()}), "x.eml")
        resource = message.resource("cid:bowl%40kiln.org")
        assert resource is not None
        assert resource.data == picture()
        assert message.image_octets == len(picture())

    def test_later_inline_text_belongs_to_the_text(self) -> None:
        """Such as the footer of a mailing list (RFC 2183 §2.1); not another alternative, a named file or an attachment. One new text takes all."""
        raw = (
            b"From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=m\n\n--m\n"
            b"Content-Type: multipart/alternative; boundary=a\n\n--a\nContent-Type: text/plain\n\nHello\n"
            b"--a\nContent-Type: text/plain; format=flowed\n\nOther\n--a\nContent-Type: text/html\n\n<p>Hello</p>\n--a--\n"
            b"--m\nContent-Type: text/plain\nContent-Transfer-Encoding: 8bit\n\nThe list of the kiln: h\xc3\xa9\n"
            b"--m\nContent-Type: text/plain; name=a.txt\n\nfile\n--m\nContent-Type: text/plain\nContent-Disposition: attachment\n\nmore\n--m--\n"
        )
        message = read_bytes(raw, "a.eml")
        assert message.text is not None
        assert (message.text.text, message.text.charset) == ("Hello\nThe list of the kiln: hé", "utf-8")
        assert [(part.name, part.data) for part in message.attachments] == [("part 2", b"Other"), ("a.txt", b"file"), ("part 6", b"more")]
        assert to_eml(message) == raw
        changed = read_bytes(with_plain_text(message, "New\n"), "a.eml")
        assert changed.text is not None
        assert changed.text.text.strip() == "New"
        assert [part.data for part in changed.attachments] == [part.data for part in message.attachments]

    def test_an_attached_page_is_not_the_message(self) -> None:
        """Only the first inline HTML is shown."""
        message = read_bytes(mail(attachments={"page.html": b"<p>other</p>"}), "x.eml")
        assert message.html is not None
        assert "other" not in message.html.text
        assert [attachment.name for attachment in message.attachments] == ["page.html"]


def _nested(depth: int) -> bytes:
    """Multiparts inside one another."""
    return b"Subject: x\n" + b"".join(b"Content-Type: multipart/mixed; boundary=b%d\n\n--b%d\n" % (n, n) for n in range(depth)) + b"\nhi"


def _page(html: bytes) -> bytes:
    """A mail with that HTML."""
    return b"Subject: x\nContent-Type: text/html\n\n" + html


class TestHostileInput:
    """Made to take the importer down: each is held, checked, and bounded. Those that once took minutes stand here."""

    @pytest.mark.parametrize(
        "raw",
        [
            _nested(1500),
            b"Subject: x\n" + b"Content-Type: message/rfc822\n\n" * 1500 + b"hi",
            _page(b"<div>a" * 8000),
            _page(b"<p " + b"a=1 " * 20_000 + b">"),
            _page(b'<img src=a alt="' + b"a_" * 30_000 + b'!">'),
            b"Subject: x\n\n" + b"{{" * 50_000,
            b"Subject: x\n\n" + b"{% if a %}" * 2000,
            b"Subject: x\n\n" + b"X" * 60_000 + b" " + b"*****" * 5_000,
            b"Subject: " + b"\n a" * 20_000 + b"\n\nx",
            b"To: " + b"a@k.org, " * 10_000 + b"\n\nx",
            _page(b"<table>" + b"<tr><td width=10>a<td width=20>b" * 8_000),
            _page(b"<b><i>x</b></i>" * 6_000),
            _page(b"the the " * 20_000),
            _page(b"&Atilde;&copy;" * 20_000),
            _page(b"<style>" + b".a{color:red}" * 3_000 + b"</style>" + b"<p class=a>x" * 1_000),
            _page(b"<a href='http://k.org/'>here</a> " * 5_000),
            b"Subject: " + b"=?utf-8?q?a?= " * 10_000 + b"\n\nx",
            b"Subject: x\n\n" + b"+1 2 3 4 5 6 7 " * 5_000,
        ],
        ids=[
            "nested parts",
            "nested messages",
            "deep tree",
            "attributes",
            "alt",
            "marks",
            "blocks",
            "crosses",
            "folds",
            "recipients",
            "rows",
            "misnested",
            "twice",
            "garbled",
            "styles",
            "links",
            "encoded-words",
            "numbers",
        ],
    )
    def test_held_and_checked(self, raw: bytes) -> None:
        """No exception, no crashed check, no more findings of a kind than anybody reads."""
        results = review(read_bytes(raw, "x.eml"), Context(known_fields=frozenset(), dictionaries=Installed())).results
        assert [answer for answer in results if answer.outcome is Outcome.CRASHED] == []
        assert max(len(answer.findings) for answer in results) <= 500

    def test_too_many_of_a_kind_are_counted_not_kept(self) -> None:
        """The first five hundred, and a word that there are more; of what is told together, two thousand."""
        many = b"".join(b"{{ field_%d }} " % number for number in range(600))
        context = Context(known_fields=frozenset({"name"}))
        (result,) = review(read_bytes(_page(many), "x.eml"), context, {"fields.unknown"}).results
        assert (len(result.findings), result.reason) == (500, "there are more; the first 500 are shown")
        links = b"".join(b'<a href="http://k.org/%d">x</a>' % number for number in range(2_500))
        (result,) = review(read_bytes(_page(links), "x.eml"), context, {"links.insecure"}).results
        assert ([found.count for found in result.findings], result.reason) == ([2_000], "there are more; the first 2,000 are shown")


class TestAnyInput:
    """Bad input is data."""

    @settings(max_examples=150, deadline=None)
    @given(
        st.binary(max_size=300),
        st.sampled_from(
            [
                b"Subject: x\n\n",
                b"Content-Type: multipart/mixed; boundary=b\n\n--b\n",
                b"Content-Type: text/html; charset=",
                b"Content-Transfer-Encoding: base64\n\n",
                b"",
            ]
        ),
    )
    def test_a_message_or_one_sentence(self, data: bytes, start: bytes) -> None:
        """Any octets make a Message or are refused with a sentence; checks never crash on what is taken."""
        try:
            message = read_bytes(start + data, "x.eml")
        except UnusableInput as refused:
            assert re.search(r"\.\Z", str(refused))
            return
        assert [answer for answer in review(message, Context(dictionaries=Installed())).results if answer.outcome is Outcome.CRASHED] == []
