"""HTML's text and plain text held against each other; the plain text made afresh; two messages compared."""

from __future__ import annotations

import io
import zipfile

import pytest

from jetwind.core.checking import Context, registry, run_check
from jetwind.core.message import Envelope, Message, read_bytes, with_envelope
from jetwind.core.prose.alignment import Pair, Shingles, align, html_sentences, missing, text_sentences
from jetwind.core.prose.comparison import envelope_changes, source_changes, text_changes
from jetwind.core.prose.plain import plain_from_html, with_plain_text
from tests.factories import GOOD_HTML, mail, package, picture

LONG = "We fire the big kiln on the first Monday of every month, all year round."


def shape(pairs: list[Pair]) -> list[tuple[str, str]]:
    """The words on either side."""
    return [(pair.html.text if pair.html else "", pair.text.text if pair.text else "") for pair in pairs]


class TestAlignment:
    """Sentence by sentence."""

    def test_equal_sentences_face_each_other(self) -> None:
        """White space, case, quotes and addresses do not count."""
        message = read_bytes(mail("<p>It’s <b>spring</b>. Come by.</p>", "it's  spring. Come by.\nhttps://kiln.org\n"), "a.eml")
        rows = align(html_sentences(message), text_sentences(message))
        assert [pair.likeness for pair in rows if pair.html and pair.text] == [1.0, 1.0]

    def test_missing_and_reworded(self) -> None:
        """What one side lacks stands alone; what is like its partner stands beside it."""
        html = f"<p>{LONG}</p><p>Only here.</p><p>Bring your own gloves and a friend.</p>"
        message = read_bytes(mail(html, f"{LONG}\n\nBring your own gloves and two friends.\n\nOnly there.\n"), "a.eml")
        assert shape(align(html_sentences(message), text_sentences(message))) == [
            (LONG, LONG),
            ("Only here.", ""),
            ("Bring your own gloves and a friend.", "Bring your own gloves and two friends."),
            ("", "Only there."),
        ]

    def test_missing_is_found_wherever_it_stands(self) -> None:
        """Order does not matter for what is there at all."""
        message = read_bytes(mail(f"<p>One two three.</p><p>{LONG}</p>", f"{LONG}\n\nOne two three.\n"), "a.eml")
        assert missing(html_sentences(message), text_sentences(message)) == []
        assert Shingles([]).share(html_sentences(message)[0]) == 0

    def test_endless_repetition_is_bounded(self) -> None:
        """Thousands of equal sentences with a difference at either end: what lies beyond the bound stands unpaired, nothing is lost."""
        many = "<p>Go. </p>" + "<p>We fire. </p>" * 4000 + "<p>Come. </p>"
        message = read_bytes(mail(many, "Stay.\n\n" + "We fire.\n\n" * 3000 + "Leave.\n"), "a.eml")
        rows = align(html_sentences(message), text_sentences(message))
        assert sum(pair.html is not None for pair in rows) == 4002
        assert sum(pair.text is not None for pair in rows) == 3002

    def test_places(self) -> None:
        """A sentence leads back to its source on either side."""
        message = read_bytes(mail("<p>One. <i>Two</i> three.</p>", "First.\nSecond line\nof it.\n"), "a.eml")
        assert message.html is not None
        assert message.text is not None
        assert [message.html.source.slice(found.span) for found in html_sentences(message) if found.span] == [
            *["One.", "<i>Two</i> three."][:1],
            "Two</i> three.",
        ]
        assert [message.text.source.slice(found.span) for found in text_sentences(message) if found.span] == [
            "First.",
            "Second line\r\nof it.",
        ]


class TestAfresh:
    """plain_from_html and with_plain_text."""

    @pytest.mark.parametrize(
        ("html", "text"),
        [
            ("<h1>Sale</h1><p>Come <b>by</b>.</p>", "Sale\n====\n\nCome by.\n"),
            ("<h2>Glazes</h2>", "Glazes\n------\n"),
            ("<ul><li>Tidepool</li><li>Ember</li></ul>", "- Tidepool\n\n- Ember\n"),
            ("<p>See <a href='https://kiln.org/a'>the glazes</a>.</p>", "See the glazes <https://kiln.org/a> .\n"),
            ("<a href='mailto:a@kiln.org'>a@kiln.org</a>", "a@kiln.org\n"),
            ("<a href='#top'>Top</a>", "Top\n"),
            ("<p>one<br>two</p><hr><p>three</p>", f"one\ntwo\n\n{'-' * 72}\n\nthree\n"),
            ("<img src=a alt='A bowl'><img src=b alt=''>", "A bowl\n"),
            ("<p style='display:none'>x</p><style>p{}</style><p>y</p>", "y\n"),
            ("<table><tr><td>a</td><td>b</td></tr></table>", "a\n\nb\n"),
            ('<p>Hello {{ first_name | default: "there" }}</p>', 'Hello {{ first_name | default: "there" }}\n'),
        ],
    )
    def test_text(self, html: str, text: str) -> None:
        """Headings, lists, links, lines, pictures, fields."""
        assert plain_from_html(read_bytes(html.encode(), "a.html")) == text

    def test_lines_are_short(self) -> None:
        """At most 72 characters, save for an address."""
        text = plain_from_html(read_bytes(f"<p>{LONG * 5}</p><a href='https://kiln.org/{'a' * 90}'>x</a>".encode(), "a.html"))
        assert all(len(line) <= 72 or "https://" in line for line in text.splitlines())

    @pytest.mark.parametrize(
        "raw",
        [
            mail(),
            mail(text=None),
            mail(images={"a.png": picture()}),
            mail(text=None, images={"a.png": picture()}, attachments={"b.pdf": b"%PDF-1.4"}),
            mail().replace(b"\r\n", b"\n"),
        ],
        ids=["both", "html alone", "related", "related alone", "bare line feeds"],
    )
    def test_a_mail_gets_it_and_loses_nothing(self, raw: bytes) -> None:
        """The new text is read back, the HTML and the pictures stay, no defect comes of it, and the check is content."""
        message = read_bytes(raw, "a.eml")
        text = plain_from_html(message)
        again = read_bytes(with_plain_text(message, text), "a.eml")
        assert again.text is not None
        assert again.html is not None
        assert message.html is not None
        assert again.text.text.replace("\r\n", "\n").strip() == text.strip()
        assert again.html.text == message.html.text
        assert [(image.name, image.data) for image in again.images] == [(image.name, image.data) for image in message.images]
        assert [part.data for part in again.attachments] == [part.data for part in message.attachments]
        assert again.defects == ()
        assert again.subject == message.subject
        for check in ("text.out-of-sync", "text.missing", "text.order", "text.residue", "sending.mime"):
            assert run_check(registry()[check], again, Context()).findings == ()

    def test_a_package_gets_a_file(self) -> None:
        """A zip with the HTML, the text and the pictures."""
        message = read_bytes(package(GOOD_HTML, a_dot_png=picture()), "a.zip")
        data = with_plain_text(message, "Hello\n")
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            assert sorted(archive.namelist()) == ["a.png", "message.html", "message.txt"]
        again = read_bytes(data, "a.zip")
        assert again.text is not None
        assert again.text.text == "Hello\n"
        assert with_plain_text(message, "Hello\n") == data

    def test_without_html_there_is_nothing_to_make_it_of(self) -> None:
        """A clear error."""
        message = read_bytes(b"Subject: x\n\nplain\n", "a.eml")
        with pytest.raises(ValueError, match="no HTML part"):
            plain_from_html(message)
        with pytest.raises(ValueError, match="no HTML part"):
            with_plain_text(message, "x")


class TestComparison:
    """Two messages side by side."""

    def _two(self) -> tuple[Message, Message]:
        before = with_envelope(read_bytes(GOOD_HTML.encode(), "a.html"), Envelope(subject="Spring", sender_address="a@kiln.org"))
        after = with_envelope(
            read_bytes(GOOD_HTML.replace("come to the quay", "come to the new quay").encode(), "a.html"),
            Envelope(subject="Autumn", sender_address="a@kiln.org", subject_variants=("Leaves",)),
        )
        return before, after

    def test_envelope(self) -> None:
        """Each thing before and after, variants too."""
        changes = {change.name: change for change in envelope_changes(*self._two())}
        assert (changes["Subject"].before, changes["Subject"].after, changes["Subject"].is_same) == ("Spring", "Autumn", False)
        assert changes["From"].is_same
        assert changes["Preview text"].is_same
        assert (changes["Subject variant 1"].before, changes["Subject variant 1"].after) == ("", "Leaves")

    def test_text(self) -> None:
        """One sentence was reworded, the others stand."""
        pairs = text_changes(*self._two())
        assert [pair.text.text for pair in pairs if pair.likeness < 1 and pair.text] == [
            'Hello {{ first_name | default: "there" }}, come to the new quay.'
        ]

    def test_source(self) -> None:
        """Changed lines with their numbers and their neighbours; gaps for what is left out."""
        before = "\n".join(f"line {number}" for number in range(1, 31))
        after = before.replace("line 10\n", "").replace("line 20", "line twenty")
        lines = list(source_changes(before, after))
        assert [(line.kind, line.before, line.after) for line in lines if line.kind != "same"] == [
            ("gap", None, None),
            ("gone", 10, None),
            ("gap", None, None),
            ("gone", 20, None),
            ("new", None, 19),
        ]
        assert list(source_changes(before, before)) == []
