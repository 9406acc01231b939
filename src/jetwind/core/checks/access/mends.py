"""The mends of what a screen reader goes by: language, title, and the roles of tables."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, source_at, turns
from jetwind.core.checks.access.structure import COPY, LANGUAGE_TAG, bare_tables
from jetwind.core.checks.needs import need_html
from jetwind.core.message import Envelope, Message
from jetwind.core.prose.language import primary_subtag
from jetwind.core.source import Span

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
    _, document = need_html(message)
    subject = " ".join(message.subject.split())
    if not subject or message.holds_field(subject):
        return
    title = next((one for one in document.elements("title") if one.start_tag is not None), None)
    head = next((one for one in document.elements("head") if one.start_tag is not None), None)
    if title is not None:
        if title.start_tag is not None and title.end_tag is not None:
            yield Change("html", Span(title.start_tag.end, title.end_tag.start), escape(subject, quote=False))
    elif head is not None and head.start_tag is not None:
        at = head.start_tag.end
        yield Change("html", Span(at, at), f"<title>{escape(subject, quote=False)}</title>")


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
