"""Instructions as Markdown, as a table and as a mail, each read again by a program that nobody here wrote."""

from __future__ import annotations

import csv
import io
from datetime import UTC, datetime
from email import policy
from email.parser import BytesParser
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from markdown_it import MarkdownIt

from jetwind.core.arrivals.note import MailHead
from jetwind.core.reports import instructions as reports
from jetwind.core.reports.instructions import Instruction, InstructionPlace, InstructionSheet, as_markdown, as_table, compose_instructions
from tests.factories import picture

#: Words in which everything means something to Markdown, HTML or a spreadsheet.
AWKWARD = "*a* _b_ `c` <b>d</b> [e](http://x/) ![f](g) # h > i - j + k 1. l | m | \\n &amp; ~~o~~ http://kiln.org/ =1+1"
HEAD = MailHead("amos@kiln.org", "jetwind@kiln.org", "<1@kiln.org>", datetime(2027, 3, 1, 9, tzinfo=UTC))
PICTURE = picture()


def sheet(*instructions: Instruction, words: str = "Mind the price.\nAnd the date.", title: str = "Glaze sale") -> InstructionSheet:
    """A sheet of one sending back."""
    return InstructionSheet(title, 3, "Rosa Quill", "1 March 2027, 10:00 CET", words, instructions)


ONE = Instruction(
    1,
    "stop",
    "Links",
    "The link “shop” has no target (#).",
    why="The reader presses it and nothing happens.",
    fix="Give the link its address.",
    places=(
        InstructionPlace("HTML, line 3, column 7", 3, 7, '<a href="#">', "shop"),
        InstructionPlace("HTML, line 9", 9, None, "```\n````x"),
    ),
    more=2,
    said=(("Petra Vane", "Which page?\nThe shop?"),),
    picture=PICTURE,
    is_ticked=True,
)
TWO = Instruction(2, "comment", "Envelope", "“Glazes”")


def tokens(text: str) -> list[Any]:
    """What markdown-it-py, a reader of CommonMark, makes of a text: every token, those within lines too."""
    return [inner for token in MarkdownIt("commonmark").parse(text) for inner in (token, *(token.children or ()))]


def plain(text: str) -> str:
    """All words of a Markdown text as a reader sees them, a line break as a blank."""
    return " ".join(
        " ".join(" " if one.type in ("softbreak", "hardbreak") else one.content for one in tokens(text) if not one.children).split()
    )


class TestMarkdown:
    """Held against markdown-it-py."""

    def test_everything_is_there(self) -> None:
        """Headings, words, exact characters in fences of their own, reasons, comments, ticks and pictures."""
        text = as_markdown(sheet(ONE, TWO))
        found = tokens(text)
        headings = [found[at + 1].content for at, token in enumerate(found) if token.type == "heading_open"]
        assert [heading.replace("\\", "") for heading in headings] == [
            "Glaze sale, revision 3",
            "1. The link “shop” has no target (#).",
            "2. “Glazes”",
        ]
        assert [token.content for token in found if token.type == "fence"] == ['<a href="#">\n', "```\n````x\n"]
        [image] = [token for token in found if token.type == "image"]
        assert str(image.attrs["src"]).startswith("data:image/png;base64,")
        assert "- [x] Stop, Links" in text and "- [ ] Comment, Envelope" in text
        for words in (
            "2 places more.",
            "Which page? The shop?",
            "Give the link its address.",
            "HTML, line 3, column 7: shop",
            "Petra Vane:",
        ):
            assert words in plain(text), words

    @given(st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs", "Zl", "Zp"]), min_size=1, max_size=60).filter(str.strip))
    def test_words_stay_words(self, words: str) -> None:
        """Whatever is typed is text: no markup, no link, no HTML; and it reads as it was typed."""
        text = as_markdown(sheet(Instruction(1, "note", words, words, why=words, said=((words, words),)), words=words, title=words))
        kinds = {token.type for token in tokens(text)} - {"text", "inline"}
        assert not kinds & {
            "html_inline",
            "html_block",
            "link_open",
            "image",
            "em_open",
            "code_inline",
            "blockquote_open",
            "hr",
            "code_block",
        }
        assert plain(text).count(" ".join(words.split())) >= 6

    def test_awkward(self) -> None:
        """A line of everything that means something to Markdown."""
        text = as_markdown(sheet(Instruction(1, "note", "Links", AWKWARD, said=((AWKWARD, AWKWARD + "\n" + AWKWARD),)), words=AWKWARD))
        assert plain(text).count(AWKWARD) == 5

    @given(st.text(st.sampled_from("`~ab\n<"), max_size=40))
    def test_exact_characters(self, characters: str) -> None:
        """A fence gives back exactly what stands in it."""
        place = InstructionPlace("HTML", 1, 1, characters)
        found = [
            token.content
            for token in tokens(as_markdown(sheet(Instruction(1, "fix", "Links", "x", places=(place,)))))
            if token.type == "fence"
        ]
        assert found == ([f"{characters}\n"] if characters else [])


def test_table() -> None:
    """A row for each place, read again by the standard library; nothing is a formula to a spreadsheet."""
    rows = list(csv.DictReader(io.StringIO(as_table(sheet(ONE, TWO, Instruction(3, "fix", "Links", "=1+1"))), newline="")))
    assert [(row["number"], row["line"], row["column"], row["characters"], row["ticked"]) for row in rows] == [
        ("1", "3", "7", '<a href="#">', "yes"),
        ("1", "9", "", "```\n````x", "yes"),
        ("2", "", "", "", "no"),
        ("3", "", "", "", "no"),
    ]
    assert rows[0]["comments"] == "Petra Vane: Which page?\nThe shop?"
    assert rows[3]["what"] == "'=1+1"


class TestMail:
    """Read again by the standard library."""

    def read(self, octets: bytes) -> Any:
        """The mail as the standard library reads it."""
        return BytesParser(policy=policy.default).parsebytes(octets)

    def test_words_and_pictures(self) -> None:
        """The text names the page, each instruction, its places and its picture, which is attached as it is."""
        read = self.read(compose_instructions(sheet(ONE, TWO), HEAD, "http://jetwind/instructions/4/"))
        assert (read["Subject"], read["To"], read["Auto-Submitted"]) == (
            "Sent back: Glaze sale, revision 3",
            "amos@kiln.org",
            "auto-generated",
        )
        [attached] = list(read.iter_attachments())
        assert (attached.get_filename(), attached.get_content()) == ("place-1.png", PICTURE)
        text = read.get_body().get_content().replace("\r\n", "\n")
        for words in (
            "http://jetwind/instructions/4/",
            "1. Stop, Links: The link “shop” has no target (#).",
            '   | <a href="#">',
            "   2 places more.",
            "   How to mend it: Give the link its address.",
            "   Petra Vane: Which page?\n      The shop?",
            "   The picture place-1.png shows the place.",
        ):
            assert words in text, words

    def test_as_far_as_there_is_room(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Pictures beyond the room are left out, and the text says how many."""
        monkeypatch.setattr(reports, "MOST_OF_MAIL", len(PICTURE) + 10)
        more = [Instruction(number, "fix", "Links", "x", picture=PICTURE) for number in (1, 2, 3)]
        read = self.read(compose_instructions(sheet(*more), HEAD, "http://jetwind/"))
        assert [one.get_filename() for one in read.iter_attachments()] == ["place-1.png"]
        assert "2 pictures are left out, which the page shows." in read.get_body().get_content()

    def test_no_header_of_theirs(self) -> None:
        """A title with line ends and headers makes none."""
        read = self.read(compose_instructions(sheet(title="Sale\r\nBcc: all@kiln.org", words="a\r\n.\r\nb"), HEAD, "http://jetwind/"))
        assert read["Bcc"] is None
        assert "Bcc: all@kiln.org" in read["Subject"]
