"""The copy in passages, sentences and words, with the way back to the source."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.message import Message, read_bytes
from jetwind.core.prose.language import declared, detect, detected, languages_of, primary_subtag, same
from jetwind.core.prose.passages import collapse, sentences, words
from jetwind.core.prose.reading import reading_of


def message(html: str) -> Message:
    """HTML alone as a message."""
    return read_bytes(html.encode(), "a.html")


def passages(html: str) -> list[str]:
    """The texts of all passages."""
    return [passage.text.strip() for passage in reading_of(message(html)).passages]


class TestPassages:
    """A passage a block, as a reader sees it."""

    @pytest.mark.parametrize(
        ("html", "texts"),
        [
            ("<p>one</p><p>two</p>", ["one", "two"]),
            ("<p>one <b>bold</b>\n  word</p>", ["one bold word"]),
            ("<table><tr><td>a<td>b</table>", ["a", "b"]),
            ("<div>before<p>in</p>after</div>", ["before", "in", "after"]),
            ("one<br>two", ["one", "two"]),
            ("<p>a&nbsp;&nbsp;b&#8203;c&shy;d</p>", ["a bcd"]),
            ("<p>x<span style='display:none'>hidden</span>y</p>", ["xy"]),
            ("<p style='visibility:hidden'>x</p><p>y</p>", ["y"]),
            ("<p><script>x</script><style>y</style>z</p>", ["z"]),
            ("<p>   </p><p>x</p>", ["x"]),
            ("<p>👩\u200d👩\u200d👧 family</p>", ["👩\u200d👩\u200d👧 family"]),
        ],
    )
    def test_texts(self, html: str, texts: list[str]) -> None:
        """White space collapsed, padding gone, hidden text left out, joined emoji whole."""
        assert passages(html) == texts

    @pytest.mark.parametrize(
        ("html", "words", "source"),
        [
            ("<p>Come to the <b>kiln</b> now</p>", "the kiln now", "the <b>kiln</b> now"),
            ("<p>Fish &amp; chips</p>", "Fish & chips", "Fish &amp; chips"),
            ("<p>a\r\n   b</p>", "a b", "a\r\n   b"),
            ("<p>x&zwnj;y z</p>", "xy", "x&zwnj;y"),
            ("<p>{{ name }}, hi</p>", "{{ name }},", "{{ name }},"),
            ("<p>é&nbsp;ü</p>", "ü", "ü"),
        ],
    )
    def test_way_back(self, html: str, words: str, source: str) -> None:
        """Any stretch of a passage leads to its characters in the source."""
        made = message(html)
        assert made.document is not None
        passage = reading_of(made).passages[0]
        at = passage.text.index(words)
        span, _ = passage.span(made.document.source, at, at + len(words))
        assert span is not None
        assert made.document.source.slice(span) == source

    def test_links(self) -> None:
        """A passage is a link when one link holds all of it."""
        links = "<p><a href=a>all of it</a></p><p>not <a href=a>all</a></p><p><a href=a>x</a><a href=b>y</a></p>"
        first, second, third = reading_of(message(links)).passages
        assert [first.is_link, second.is_link, third.is_link] == [True, False, False]

    @given(
        st.lists(
            st.sampled_from(
                ["a", " ", "\n", "\r\n", "&amp;", "&nbsp;", "&#8203;", "<b>", "</b>", "<br>", "é", "👩\u200d👧", "{{ x }}", "\u00ad"]
            ),
            max_size=30,
        )
    )
    @settings(max_examples=300, deadline=None)
    def test_every_stretch_has_a_place(self, pieces: list[str]) -> None:
        """Whatever the markup, a span lies in the source and runs forwards."""
        made = message("<p>" + "".join(pieces) + "</p>")
        assert made.document is not None
        for passage in reading_of(made).passages:
            for start in range(len(passage.text)):
                span, element = passage.span(made.document.source, start, start + 1)
                assert element is not None
                assert span is None or 0 <= span.start <= span.end <= len(made.document.source.text)

    @given(st.text(max_size=60))
    def test_collapse_is_stable(self, text: str) -> None:
        """Done twice it is what it is done once."""
        assert collapse(collapse(text)) == collapse(text)


class TestSentences:
    """Where a sentence ends, and where a full stop does not end one."""

    @pytest.mark.parametrize(
        ("text", "parts"),
        [
            ("One. Two! Three? Four… Five", ["One.", "Two!", "Three?", "Four…", "Five"]),
            ("Ask Dr. Quill at No. 12. She knows.", ["Ask Dr. Quill at No. 12.", "She knows."]),
            ("Glazes, clays, etc. are here. Come.", ["Glazes, clays, etc. are here.", "Come."]),
            ("Version 2.4 is out", ["Version 2.4 is out"]),
            ("He said “Come.” Then he left.", ["He said “Come.”", "Then he left."]),
            ("kiln.org is open. really", ["kiln.org is open. really"]),
            ("", []),
            ("   ", []),
        ],
    )
    def test_parts(self, text: str, parts: list[str]) -> None:
        """Abbreviations, numbers, hosts and quotes."""
        assert [text[span.start : span.end] for span in sentences(text)] == parts

    @given(st.text(alphabet=st.sampled_from(list("aA .!?…”\n")), max_size=40))
    def test_nothing_is_lost(self, text: str) -> None:
        """All that is not white space stands in some sentence, once."""
        spans = list(sentences(text))
        assert "".join(text[span.start : span.end] for span in spans).replace(" ", "").replace("\n", "") == text.replace(" ", "").replace(
            "\n", ""
        )
        assert all(one.end <= other.start for one, other in itertools.pairwise(spans))

    def test_words(self) -> None:
        """Letters, with apostrophes inside."""
        assert [match[0] for match in words("It’s 3 o'clock, isn't it — naïve?")] == ["It’s", "o'clock", "isn't", "it", "naïve"]


ENGLISH = "The kiln is open for all of you on the first day of the month, and we have more clay and glaze than you can use by then. " * 2
GERMAN = "Der Ofen ist heute nicht voll, und wir brennen morgen mit Ihnen die Schalen, die Sie mit uns für das Fest gemacht haben. " * 2
FRENCH = (
    "Le four est ouvert pour vous le premier jour du mois, et nous avons plus de terre que vous ne pouvez en utiliser dans la semaine. " * 2
)
DUTCH = "De oven is open voor u op de eerste dag van de maand, en wij hebben meer klei en glazuur dan u kunt gebruiken met ons. " * 2


class TestLanguage:
    """Declared, and told by function words."""

    @pytest.mark.parametrize(
        ("text", "language"), [(ENGLISH, "en"), (GERMAN, "de"), (FRENCH, "fr"), (DUTCH, "nl"), ("Kiln sale", None), ("x " * 100, None)]
    )
    def test_detect(self, text: str, language: str | None) -> None:
        """Long texts tell; short ones and those without function words do not."""
        assert detect(text) == language

    @pytest.mark.parametrize(
        ("tag", "language"),
        [("en", "en"), ("en-GB", "en"), ("zh-Hant-TW", "zh"), ("", ""), ("english language", ""), ("e", ""), ("DE-de", "de")],
    )
    def test_primary_subtag(self, tag: str, language: str) -> None:
        """BCP 47 (RFC 5646 §2.1)."""
        assert primary_subtag(tag) == language

    @pytest.mark.parametrize(
        ("html", "tag"),
        [
            ("<html lang=de><p>x", "de"),
            ("<body lang=fr>x", "fr"),
            ("<div lang=es><p>x</p></div>", "es"),
            ("<table><tr><td lang=it>x</table>", "it"),
            ("<p lang=es>x</p>", None),
            ("<html lang=''><body lang=nl>x", "nl"),
        ],
    )
    def test_declared(self, html: str, tag: str | None) -> None:
        """On html, body or a wrapper; a paragraph's own language is not the message's."""
        said = declared(message(html))
        assert (said[1].value if said else None) == tag

    def test_alike_languages(self) -> None:
        """Danish and Norwegian share their function words."""
        assert same("nb", "da")
        assert not same("de", "nl")

    def test_order_of_languages(self) -> None:
        """The declared one first, English always last."""
        made = message(f"<html lang=de><p>{FRENCH}</p></html>")
        assert detected(made) == "fr"
        assert languages_of(made) == ["de", "fr", "en"]
