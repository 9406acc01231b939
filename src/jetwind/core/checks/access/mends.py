"""The mends of what a screen reader goes by: language, title, and the roles of tables."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html import escape

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, fill, leaves_alone, mend, source_at, turns
from jetwind.core.checks.access.structure import COPY, LANGUAGE_TAG, bare_tables
from jetwind.core.checks.needs import need_html
from jetwind.core.message import Envelope, Message
from jetwind.core.prose.language import declared, detected, primary_subtag
from jetwind.core.source import Span
from jetwind.core.styles import placed_declarations

_CLAY = Envelope(subject="Clay & kilns", sender_address="a@kiln.org")


@mend(
    "access.lang-missing",
    kind=MendKind.SURE,
    does="A language that is written with an underscore gets the hyphen of BCP 47.",
    leaves="A language that is not there, or that no tag names, is left to a person.",
    samples=[
        turns(f"<html lang='en_GB'><body>{COPY}</body></html>", f"<html lang='en-GB'><body>{COPY}</body></html>"),
        turns(f"<html lang=pt_BR><body>{COPY}</body></html>", f"<html lang=pt-BR><body>{COPY}</body></html>"),
        leaves_alone(f"<html lang='english'><body>{COPY}</body></html>"),
        leaves_alone(f"<html><body>{COPY}</body></html>"),
    ],
)
def mend_language(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The same letters, parted as RFC 5646 §2.1 has it."""
    if (found := source_at(message, finding.place)) is not None:
        part, span, written = found
        tag = written.strip().replace("_", "-")
        if "_" in written and LANGUAGE_TAG.match(tag) and primary_subtag(tag):
            yield Change(part, span, tag)


@mend(
    "access.title-missing",
    kind=MendKind.CONFIRM,
    does="The subject becomes the title.",
    leaves="A message without a subject or a head is left to a person, and so is a subject with a field.",
    samples=[
        turns(
            f"<html><head></head><body>{COPY}</body></html>",
            f"<html><head><title>Clay &amp; kilns</title></head><body>{COPY}</body></html>",
            envelope=_CLAY,
        ),
        turns(
            f"<html><head><title> </title></head><body>{COPY}</body></html>",
            f"<html><head><title>Clay &amp; kilns</title></head><body>{COPY}</body></html>",
            envelope=_CLAY,
        ),
        leaves_alone(f"<html><head></head><body>{COPY}</body></html>"),
        leaves_alone(f"<p>{COPY}</p>", envelope=_CLAY),
    ],
)
def mend_title(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The title stands first in the head."""
    subject = " ".join(message.subject.split())
    if subject and not message.holds_field(subject):
        yield from _with_title(message, subject)


def _with_title(message: Message, words: str) -> Iterator[Change]:
    _, document = need_html(message)
    title = next((one for one in document.elements("title") if one.start_tag is not None), None)
    head = next((one for one in document.elements("head") if one.start_tag is not None), None)
    if title is not None:
        if title.start_tag is not None and title.end_tag is not None:
            yield Change("html", Span(title.start_tag.end, title.end_tag.start), escape(words, quote=False))
    elif head is not None and head.start_tag is not None:
        at = head.start_tag.end
        yield Change("html", Span(at, at), f"<title>{escape(words, quote=False)}</title>")


@fill(
    "access.lang-missing",
    asks="The language of the copy as a tag of BCP 47, such as en or pt-BR",
    example="en",
    does="The html tag says the language.",
    leaves="A message without an html tag is left to a person, and so are words that are no tag.",
    suggests=lambda message, context, finding: [found] if (found := detected(message)) else [],
    samples=[
        turns(f"<html><body>{COPY}</body></html>", f'<html lang="en-GB"><body>{COPY}</body></html>', "en-GB"),
        turns(f"<html lang=''><body>{COPY}</body></html>", f"<html lang='en'><body>{COPY}</body></html>", "en"),
        turns(f"<html lang='english'><body>{COPY}</body></html>", f"<html lang='en'><body>{COPY}</body></html>", "en"),
        leaves_alone(f"<html><body>{COPY}</body></html>", "english"),
        leaves_alone(COPY, "en"),
    ],
)
def fill_language(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The value of lang, or the attribute right behind the tag's name."""
    _, document = need_html(message)
    html = next((one for one in document.elements("html") if one.start_tag is not None), None)
    if not LANGUAGE_TAG.match(word) or not primary_subtag(word) or html is None or html.start_tag is None:
        return
    said = declared(message)
    lang = said[1] if said is not None else html.attributes.get("lang")
    at = html.start_tag.start + len("<html")
    yield Change("html", lang.value_span, word) if lang is not None else Change("html", Span(at, at), f' lang="{word}"')


@fill(
    "access.title-missing",
    asks="The title of the message",
    example="Glazes",
    does="These words become the title.",
    leaves="A message without a head is left to a person.",
    samples=[
        turns(
            f"<html><head></head><body>{COPY}</body></html>", f"<html><head><title>Pots</title></head><body>{COPY}</body></html>", "Pots"
        ),
        leaves_alone(f"<p>{COPY}</p>", "Pots"),
    ],
)
def fill_title(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The title stands first in the head."""
    yield from _with_title(message, word)


@mend(
    "access.justified",
    kind=MendKind.CONFIRM,
    does="Each declaration of justified copy aligns left instead.",
    leaves="Copy that runs from right to left is left to a person, and so are values with a priority.",
    samples=[
        turns(f"<div style='text-align:justify'>{COPY}</div>", f"<div style='text-align:left'>{COPY}</div>"),
        turns(f"<table><tr><td align='JUSTIFY'>{COPY}</td></tr></table>", f"<table><tr><td align='left'>{COPY}</td></tr></table>"),
        leaves_alone(f"<div dir='rtl' style='text-align:justify'>{COPY}</div>"),
    ],
)
def mend_justified(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The word “justify”, in attributes, styles of elements and style sheets."""
    html, document = need_html(message)
    if any((element.get("dir") or "").strip().lower() == "rtl" for element in document.all_elements):
        return
    for placed in placed_declarations(document, "text-align"):
        written = html.source.slice(placed.span)
        if found := re.fullmatch(r"(text-align\s*:\s*)(justify)\s*", written, re.IGNORECASE):
            yield Change("html", Span(placed.span.start + found.start(2), placed.span.start + found.end(2)), "left")
    for element in document.all_elements:
        align = element.attributes.get("align") if "align" in element.names else None
        if align is not None and align.value.lower() == "justify":
            yield Change("html", align.value_span, "left")


@mend(
    "access.table-role",
    kind=MendKind.SURE,
    does='Each layout table gets role="presentation".',
    leaves="A table that holds values is left to a person, who knows which cells are its headers.",
    samples=[
        turns(f"<table><tr><td>{COPY}</td></tr></table>", f'<table role="presentation"><tr><td>{COPY}</td></tr></table>'),
        turns(
            f"<TABLE\n width=600><tr><td><table cellpadding='0'><tr><td>{COPY}</td></tr></table></td></tr></TABLE>",
            f'<TABLE role="presentation"\n width=600><tr><td><table role="presentation" cellpadding=\'0\'>'
            f"<tr><td>{COPY}</td></tr></table></td></tr></TABLE>",
        ),
        leaves_alone("<table><tr><td>Ash</td><td>1,280</td></tr><tr><td>Sea</td><td>1,240</td></tr></table>"),
        leaves_alone(f"<table role=''><tr><td>{COPY}</td></tr></table>"),
    ],
)
def mend_table_role(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The role stands right behind the tag's name, so that nothing else of the tag is touched."""
    if "tables" not in finding.data:
        return
    for table in bare_tables(message)[1]:
        if table.start_tag is not None and "role" not in table.names:
            yield Change("html", Span(table.start_tag.start + 6, table.start_tag.start + 6), ' role="presentation"')
