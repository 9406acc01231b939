"""The message as a reader takes it in, and as it goes out again."""

from dataclasses import replace
from datetime import UTC, datetime
from email import message_from_bytes, policy
from email.utils import parseaddr
from typing import Any

import hypothesis
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from jetwind.core.arrivals.composing import compose
from jetwind.core.fields import LIQUID
from jetwind.core.images import is_spacer, measure, shown_size
from jetwind.core.links import accessible_name, links
from jetwind.core.message import Envelope, Message, image_references, read_bytes
from jetwind.core.message.model import Header, Resource
from jetwind.core.prose.reading import reading_of
from tests.factories import GOOD_HTML, mail, package, picture


def page(html: str, **files: bytes) -> Message:
    """A message from HTML alone or with pictures."""
    return read_bytes(package(html, **files), "x.zip")


class TestVisibleText:
    """Lines as read."""

    @pytest.mark.parametrize(
        ("html", "text"),
        [
            ("<p>one</p><p>two</p>", "one\ntwo"),
            ("<p>one\n two</p>", "one two"),
            ("<p>o<b>n</b>e<br>two</p>", "one\ntwo"),
            ("<td>a<td>b", "ab"),
            ("<table><tr><td>a<td>b</table>", "a\nb"),
            ("<div style='display:none'>x</div>y", "y"),
            ("a&nbsp;&zwnj;b", "a b"),
            ("<style>p{}</style><script>x</script><title>t</title>y", "y"),
        ],
    )
    def test_lines(self, html: str, text: str) -> None:
        """Blocks begin lines; hidden text and styles are no copy."""
        assert reading_of(page(html)).visible_text == text


class TestPreviewText:
    """What an inbox shows after the subject."""

    @pytest.mark.parametrize(
        ("html", "shown"),
        [
            ("<div style='display:none'>Hidden lead-in &#847; &zwnj;</div><p>Visible</p>", "Hidden lead-in"),
            ("<p>Visible</p><div style='display:none'>late</div>", "Visible"),
            ("<!-- <p>comment</p> --><p>Visible</p>", "Visible"),
        ],
    )
    def test_lead_in_or_first_words(self, html: str, shown: str) -> None:
        """Hidden text before the first visible text, else the copy."""
        assert reading_of(page(html)).preview_text == shown


class TestLinksAndPictures:
    """Collected with their names and places."""

    def test_name_of_a_link(self) -> None:
        """Label, else text with alternative texts, else title (accname 1.2 §4.3)."""
        names = [
            link.name
            for link in links(
                page(
                    '<a href="a"><img src="x" alt="Bowl"> now</a><a href="b" aria-label="Label">t</a><a href="c" title="Title"><img src="y"></a><area href="d" alt="Area">'
                )
            )
        ]
        assert names == ["Bowl now", "Label", "Title", "Area"]

    def test_links_of_a_plain_mail(self) -> None:
        """Without HTML the addresses in the text are the links, without the full stop after them."""
        message = read_bytes(mail(None, "See https://kiln.org/a, or (https://kiln.org/b)."), "x.eml")
        assert [link.address for link in links(message)] == ["https://kiln.org/a", "https://kiln.org/b"]

    def test_every_kind_of_reference(self) -> None:
        """src, background and url() in styles, each with the place of the address alone."""
        message = page('<img src="a.png"><table background="b.png"><tr><td style="background:url(\'c.png\') red"></table>')
        assert message.document is not None
        found = list(image_references(message))
        assert [message.document.source.slice(reference.span) for reference in found] == ["a.png", "b.png", "c.png"]

    def test_shown_size_and_spacers(self) -> None:
        """Styles win over attributes; 1 to 3 px one way is a spacer."""
        message = page(
            '<img src="a.png" width="300" height="20" style="width:280px"><img src="b.gif" width="600" height="1"><img src="c.png">',
            c_dot_png=picture(2, 2),
        )
        assert message.document is not None
        first, second, third = message.document.elements("img")
        assert shown_size(message, first) == (280, 20)
        assert not is_spacer(message, first)
        assert is_spacer(message, second)
        assert is_spacer(message, third)

    def test_a_pixel_bomb_is_not_opened(self) -> None:
        """A small file that claims 400 Mpx has no facts."""
        header = picture(10, 10)
        bomb = header[:16] + (20_000).to_bytes(4, "big") * 2 + header[24:]
        assert measure(bomb) is None
        assert measure(b"not a picture") is None
        facts = measure(picture(12, 8))
        assert facts is not None
        assert (facts.width, facts.height, facts.format) == (12, 8, "PNG")

    def test_accessible_name_ignores_white_space(self) -> None:
        """Collapsed to one line."""
        (link,) = links(page("<a href='x'>\n  See\n  it </a>"))
        assert link.element is not None
        assert accessible_name(link.element) == "See it"


class TestCompose:
    """What a test send hands over."""

    def composed(self, raw: bytes, name: str = "x.eml", **more: Any) -> tuple[bytes, Message]:
        """One mail to one recipient, read back."""
        message = read_bytes(raw, name, envelope=more.pop("envelope", None), syntax=more.pop("syntax", LIQUID))
        sent = compose(
            message,
            values={"first_name": "Tess & <Sons>"},
            to="one@kiln.org",
            sender_address="test@kiln.org",
            subject_mark="[Test r1]",
            message_id="<1@test.invalid>",
            date=datetime(2027, 3, 9, 9, tzinfo=UTC),
        )
        return sent, read_bytes(sent, "sent.eml")

    def test_marked_merged_and_to_one(self) -> None:
        """Subject marked, parts merged, one address in To, others' headers left out."""
        raw = mail(text="Hello {{ first_name }}", Subject="For {{ first_name }}", To="all@kiln.org", Cc="boss@kiln.org", Bcc="x@kiln.org")
        sent, arrived = self.composed(raw)
        assert arrived.subject == "[Test r1] For Tess & <Sons>"
        assert [box.address for box in arrived.mailboxes("To")] == ["one@kiln.org"]
        assert arrived.header("Cc") is None
        assert b"x@kiln.org" not in sent
        assert arrived.html is not None
        assert "Hello Tess & <Sons>" in arrived.html.text
        # A sending system that escapes values does so in HTML alone.
        _, escaped = self.composed(raw, syntax=replace(LIQUID, escapes=True))
        assert escaped.html is not None and "Hello Tess &amp; &lt;Sons&gt;" in escaped.html.text
        assert escaped.subject == "[Test r1] For Tess & <Sons>"
        assert arrived.text is not None
        assert arrived.text.text.strip() == "Hello Tess & <Sons>"
        assert arrived.header("List-Unsubscribe") is not None

    def test_pictures_of_a_package_travel_by_content_id(self) -> None:
        """A path becomes a cid: that the arrival resolves to the same bytes."""
        _, arrived = self.composed(
            package('<img src="img/a.png" alt="x">', img__a_dot_png=picture()),
            "x.zip",
            envelope=Envelope("S", "Kiln", "k@kiln.org", "r@kiln.org", "Given preview"),
        )
        (reference,) = image_references(arrived)
        assert reference.value.startswith("cid:")
        resource = arrived.resource(reference.value)
        assert resource is not None
        assert resource.data == picture()
        assert reading_of(arrived).preview_text == "Given preview"

    def test_a_subject_cannot_bring_headers(self) -> None:
        """Header injection through an encoded newline in the subject."""
        sent, arrived = self.composed(
            mail(without=("Subject",)).replace(b"From:", b"Subject: =?utf-8?q?Hi=0D=0ABcc=3A_all=40kiln.org?=\r\nFrom:", 1)
        )
        assert arrived.header("Bcc") is None
        assert b"\nBcc:" not in sent
        assert arrived.subject == "[Test r1] Hi Bcc: all@kiln.org"

    def test_crlf_lines_and_attachments(self) -> None:
        """RFC 5322 §2.3: lines end in CR LF; what was attached is still attached."""
        sent, arrived = self.composed(mail(GOOD_HTML, attachments={"terms.bin": b"\x00\x01"}))
        assert b"\n" not in sent.replace(b"\r\n", b"")
        assert [attachment.data for attachment in arrived.attachments] == [b"\x00\x01"]


#: What no header can hold as it is: every end of a line that Unicode knows, controls, lone surrogates, and marks of a header's own.
_AWKWARD = st.text(alphabet=st.sampled_from('ab é🏺\u2028\u2029\x85\x0b\x0c\x1c\r\n\t\0\x7f\ud800\udc00"<>,;:=?@()\\'), max_size=24)


class TestAwkwardHeaders:
    """Whatever the headers of a message hold, a copy of it is written."""

    @given(texts=st.lists(_AWKWARD, min_size=6, max_size=6))
    @example(texts=["a\u2028b", "\x85", "\ud800", "\u2029,<@>", "x\ud83dy", "\r\nBcc: z@y.net"])
    @hypothesis.settings(max_examples=200)
    def test_written_all_the_same(self, texts: list[str]) -> None:
        """As one mail with one recipient, which any reader of mail reads."""
        subject, name, reply, leave, file_name, body = texts
        message = read_bytes(
            package("<p>Hi</p><img src='p.png'>", p_dot_png=b"\x89PNG\r\n\x1a\n" + body.encode("utf-8", "replace")), "a.zip"
        )
        given_headers = (
            Header("Subject", subject, subject, None),
            Header("From", name, f'"{name}" <a@kiln.org>', None),
            Header("Reply-To", reply, reply, None),
            Header("List-Unsubscribe", leave, leave, None),
        )
        assert message.html is not None
        awkward = replace(
            message,
            headers=given_headers,
            html=replace(message.html, text=message.html.text + body),
            attachments=(Resource(file_name, "te\u2028xt/pl\x85ain", None, b"x"),),
        )
        sent = compose(
            awkward,
            values={"first_name": subject},
            to="b@kiln.org",
            sender_address="test@kiln.org",
            subject_mark="[test]",
            message_id="<1@kiln.org>",
            date=datetime(2027, 3, 1, tzinfo=UTC),
        )
        arrived = message_from_bytes(sent, policy=policy.SMTP)
        assert arrived["To"] == "b@kiln.org"
        assert len(arrived.get_all("To", [])) == len(arrived.get_all("Subject", [])) == 1
        assert arrived["Bcc"] is None
        assert parseaddr(str(arrived["From"]))[1] == "test@kiln.org"

    @pytest.mark.parametrize("to", ["a@b.org\r\nBcc: c@d.org", "a\u2028@b.org"])
    def test_addresses_of_ours_are_one_line(self, to: str) -> None:
        """An address is not mended but refused."""
        with pytest.raises(ValueError, match="not one line"):
            compose(
                read_bytes(mail(), "a.eml"),
                values={},
                to=to,
                sender_address="t@kiln.org",
                subject_mark="",
                message_id="<1@k>",
                date=datetime(2027, 3, 1, tzinfo=UTC),
            )
