"""A message goes out as it came in: parse, write, parse is the same value. And the structure is the one that Python's email reads."""

from __future__ import annotations

import email
import email.policy
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.message import Envelope, UnusableInput, read_bytes, to_eml, with_envelope
from jetwind.core.message.parts import read_parts
from tests.factories import GOOD_HTML, mail, package, picture
from tests.references import newsletters

CPYTHON = sorted((Path(__file__).parents[1] / "vectors" / "cpython-email").glob("msg_*.txt"))

_LINES = st.sampled_from(
    [
        b"Subject: x",
        b"Subject: =?utf-8?q?=C3=BC?=",
        b"Content-Type: multipart/mixed; boundary=b",
        b"Content-Type: text/html",
        b"Content-Transfer-Encoding: base64",
        b"Content-Transfer-Encoding: 8bit",
        b"--b",
        b"--b--",
        b"",
        b" folded",
        b"no header",
        b"\xc3\xbc \xff",
        b"QUJD",
        b"From: a@b",
    ]
)
SOUP = st.lists(st.tuples(_LINES, st.sampled_from([b"\n", b"\r\n", b"\r"])), max_size=20).map(
    lambda lines: b"".join(line + end for line, end in lines)
)


class TestRoundTrip:
    """to_eml."""

    @pytest.mark.parametrize("path", CPYTHON, ids=lambda path: path.stem)
    def test_foreign_mail_keeps_every_octet(self, path: Path) -> None:
        """CPython 3.11's own e-mail test data."""
        try:
            message = read_bytes(path.read_bytes(), "x.eml")
        except UnusableInput:
            assert path.stem == "msg_19"
            return
        written = to_eml(message)
        assert written == path.read_bytes().lstrip(b"\xef\xbb\xbf\r\n")
        assert read_bytes(written, "x.eml") == message

    def test_newsletters_keep_every_octet(self) -> None:
        """Real mail (tests/references.py)."""
        for name, raw in newsletters():
            message = read_bytes(raw, f"{name}.eml")
            assert to_eml(message) == raw.lstrip(b"\r\n")
            assert read_bytes(to_eml(message), f"{name}.eml") == message

    @given(SOUP)
    @settings(max_examples=300, deadline=None)
    def test_any_octets(self, raw: bytes) -> None:
        """Broken boundaries, bare line ends, headers anywhere: the parts joined are the source, and spans lie inside it."""
        root = read_parts(raw)
        assert root.to_bytes() == raw
        for part in root.walk():
            assert part.body_span.end <= len(raw)
            assert all(defect.octets is None or defect.octets.end <= len(raw) for defect in part.defects)
            assert all(raw[field.offset : field.offset + len(field.octets)] == field.octets for field in part.fields)

    def test_a_given_envelope_is_written_and_the_rest_stays(self) -> None:
        """A new subject beyond ASCII goes out encoded; the parts keep their octets."""
        message = with_envelope(read_bytes(mail(), "a.eml"), Envelope(subject="Grüße", sender_name="Öfen", sender_address="a@kiln.org"))
        again = read_bytes(to_eml(message), "a.eml")
        assert again.subject == "Grüße"
        assert [(box.name, box.address) for box in again.mailboxes("From")] == [("Öfen", "a@kiln.org")]
        assert message.html is not None and again.html is not None and message.text is not None and again.text is not None
        assert (again.html, again.text, again.images) == (
            replace(message.html, part=again.html.part),
            replace(message.text, part=again.text.part),
            (),
        )
        assert again.defects == ()

    def test_a_package_becomes_a_mail(self) -> None:
        """HTML to the character, pictures to the octet, found under the names that the HTML uses."""
        made = read_bytes(
            package(GOOD_HTML.replace("<h1>", "<img src='pics/ä.png' alt='x'><h1>\r\n\té"), pics__ä_dot_png=picture()), "a.zip"
        )
        made = with_envelope(made, Envelope(subject="Grüße", sender_address="a@kiln.org"))
        again = read_bytes(to_eml(made), "a.eml")
        assert made.html is not None
        assert again.html is not None
        assert again.html.text == made.html.text
        assert again.subject == made.subject
        found = again.resource("pics/ä.png")
        assert found is not None
        assert found.data == made.images[0].data


class TestStructure:
    """Python's email package, which Jetwind's reader of parts does not use, as the second opinion."""

    @pytest.mark.parametrize("path", CPYTHON, ids=lambda path: path.stem)
    def test_same_leaves(self, path: Path) -> None:
        """Type, file name and decoded octets of every leaf; where they differ, why, by name."""
        raw = path.read_bytes()
        theirs = [
            (part.get_content_type(), part.get_filename(), part.get_payload(decode=True))
            for part in email.message_from_bytes(raw, policy=email.policy.compat32).walk()
            if not part.is_multipart()
        ]
        ours = [(part.content_type, part.file_name or None, part.data) for part in read_parts(raw).leaves]
        if path.stem in DIFFERENT:
            assert ours != theirs, "no longer different: take it off the list"
        else:
            assert ours == theirs

    def test_exceptions_are_few(self) -> None:
        """The number of messages that differ is known."""
        assert len(DIFFERENT) == 14


#: Messages that the two read differently, with the reason.
DIFFERENT = dict.fromkeys(
    ["msg_05", "msg_06", "msg_11", "msg_16", "msg_28", "msg_36", "msg_42", "msg_43", "msg_46"],
    "a message inside the message stays whole here, as an attachment; email opens it",
)
DIFFERENT |= dict.fromkeys(["msg_02", "msg_30", "msg_34"], "the same for the messages of a digest")
DIFFERENT |= {
    "msg_15": "a multipart whose boundary never occurs: email leaves the line break before its end out of the body",
    "msg_37": "empty parts between doubled delimiters: email makes one part of them",
}
