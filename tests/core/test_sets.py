"""Blocks that messages share, what a member has otherwise than its model, and findings told once."""

from __future__ import annotations

import random
from email.message import EmailMessage
from email.policy import SMTP

from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.message import Message, read_bytes
from jetwind.core.sets import Told, Traits, differences, pieces_of, told_once, traits_of
from tests.references import newsletters

ADDRESS = "Saltmarsh Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW"
#: A picture of one pixel (GIF89a, from memory).
PIXEL = b"GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff!\xf9\x04\x01\x00\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;"


def message(
    body: str, *, footer: str = ADDRESS, sender: str = "Kiln <studio@saltmarsh-kiln.example>", style: str = "", alt: str = "Kiln"
) -> Message:
    """A short message with a picture at its head, and a footer."""
    mail = EmailMessage(policy=SMTP)
    mail["Subject"], mail["From"] = "A slot", sender
    html = f'<p><img src="cid:mark@x" alt="{alt}" width="90" height="40"></p><h1>A slot</h1>{body}<p>{footer}</p>'
    mail.set_content(f'<html><body style="font-family: Georgia, serif{style}">{html}</body></html>', subtype="html")
    mail.add_related(PIXEL, "image", "gif", cid="<mark@x>")
    return read_bytes(mail.as_bytes(), "slot.eml")


COPY = "<p>Your pots are fired on Tuesday, and cool until Thursday at noon.</p>"
MODEL = message(COPY)


class TestPieces:
    """The same content is the same piece, however it is marked up."""

    def test_markup_is_no_content(self) -> None:
        """Other tags, styles and line ends around the same words, links and pictures make no other piece."""
        other = message("<div>Your pots are fired\n on Tuesday, and <b>cool</b> until Thursday at noon.</div>", style="; color: navy")
        assert {(one.kind, one.digest) for one in pieces_of(MODEL)} == {(one.kind, one.digest) for one in pieces_of(other)}

    def test_kinds(self) -> None:
        """A header with its picture, a footer with the address, the paragraph; a heading of a few letters is no part of its own."""
        assert [(one.kind, one.words) for one in pieces_of(MODEL)] == [
            ("header", "Kiln"),
            ("footer", ADDRESS),
            ("paragraph", "Your pots are fired on Tuesday, and cool until Thursday at noon."),
            ("picture", "Kiln"),
        ]

    def test_a_link_is_content(self) -> None:
        """The same words with another address behind them are another piece, in a paragraph as in a footer."""
        one, other = (
            message(
                f'<p>Your pots are fired on Tuesday; <a href="https://x.example/{page}">give the slot back</a>.</p>',
                footer=f'{ADDRESS}, <a href="https://x.example/{page}">how to find us</a>',
            )
            for page in "ab"
        )
        shared = {piece.digest for piece in pieces_of(one)} & {piece.digest for piece in pieces_of(other)}
        assert {piece.kind for piece in pieces_of(one) if piece.digest in shared} == {"header", "picture"}

    def test_real_messages(self) -> None:
        """Of real messages nobody here wrote, each has its own pieces twice alike, within the limits, and differs in nothing from itself."""
        for _, raw in newsletters()[:60]:
            read = read_bytes(raw, "a.html")
            pieces, traits = pieces_of(read), traits_of(read)
            assert pieces == pieces_of(read_bytes(raw, "a.html"))
            assert len(pieces) <= 400 and all(len(one.words) <= 300 for one in pieces)
            assert differences(traits, traits) == ()
            assert Traits.from_dict(traits.as_dict()) == traits

    def test_nothing(self) -> None:
        """A message without HTML has no pieces, and a sender all the same."""
        plain = read_bytes(b"From: Kiln <a@x.example>\r\nSubject: x\r\n\r\nHello\r\n", "a.eml")
        assert (pieces_of(plain), traits_of(plain)) == ((), Traits(sender="Kiln <a@x.example>"))


class TestDifferences:
    """What a member has otherwise than the model."""

    def told(self, member: Message) -> list[str]:
        """The sides that differ."""
        return [one.side for one in differences(traits_of(MODEL), traits_of(member))]

    def test_other_copy_is_no_difference(self) -> None:
        """A member has words of its own: that is what it is for."""
        assert self.told(message("<p>Your money comes back within five days, to the account from which it came.</p>")) == []

    def test_each_side(self) -> None:
        """Sender, header, footer, links and fonts, each alone."""
        assert self.told(message(COPY, sender="Office <studio@saltmarsh-kiln.example>")) == ["sender"]
        assert self.told(message(COPY, alt="The old works")) == ["header"]
        assert self.told(message(COPY, footer="Saltmarsh Kiln Works, 3 Harbour Row, Saltmarsh SM4 2HR")) == ["footer"]
        assert self.told(message(f'{COPY}<p><a href="https://elsewhere.example/">Pay</a></p>')) == ["links"]
        assert self.told(message(COPY.replace("<p>", '<p style="font-family: Verdana">'))) == ["fonts"]

    def test_digest(self) -> None:
        """Two footers that differ behind what a sentence quotes are two differences; the same one twice is one."""
        model = traits_of(MODEL)
        long = ", ".join(f"{number} Harbour Row" for number in range(20))
        one, again, other = (
            traits_of(message(COPY, footer=f"Saltmarsh Kiln Works, {long}, {end}")) for end in ("SM4 2HR", "SM4 2HR", "SM4 9ZQ")
        )
        (first,), (same,), (second,) = (differences(model, traits) for traits in (one, again, other))
        assert first.sentence == second.sentence
        assert first.digest == same.digest != second.digest


ONE = st.builds(
    Told,
    member=st.integers(1, 4),
    check=st.sampled_from(["a.one", "b.two"]),
    level=st.sampled_from(["stop", "fix", "note"]),
    fingerprint=st.sampled_from(["f1", "f2", "f3"]),
    cause=st.sampled_from(["", "c1", "c2"]),
    sentence=st.sampled_from(["s1", "s2", "s3"]),
)


class TestToldOnce:
    """Findings of one cause are one."""

    @given(st.lists(ONE, max_size=25))
    def test_as_in_a_plain_model(self, findings: list[Told]) -> None:
        """The groups are those that joining pair by pair, until nothing changes, gives; and nothing is lost or told twice."""
        groups = [{number} for number in range(len(findings))]

        def are_one(first: Told, second: Told) -> bool:
            alike = {first.fingerprint, first.cause} & {second.fingerprint, second.cause} - {""}
            return first.check == second.check and bool(alike or first.sentence == second.sentence)

        joined = True
        while joined:
            joined = False
            for one in groups:
                for other in groups:
                    if one is not other and any(are_one(findings[first], findings[second]) for first in one for second in other):
                        one |= other
                        groups.remove(other)
                        joined = True
                        break
                if joined:
                    break
        expected = sorted(sorted(repr(findings[number]) for number in group) for group in groups)
        assert sorted(sorted(repr(one) for one in cause.findings) for cause in told_once(findings)) == expected

    def test_order(self) -> None:
        """Stops come before fixes, and what more members have comes first."""
        findings = [Told(1, "a", "fix", "x", "", "x"), Told(2, "b", "stop", "y", "", "y"), Told(1, "c", "stop", "z", "", "z")]
        findings += [Told(2, "c", "stop", "z", "", "z")]
        random.Random(7).shuffle(findings)
        assert [(cause.first.check, sorted(cause.members)) for cause in told_once(findings)] == [("c", [1, 2]), ("b", [2]), ("a", [1])]
