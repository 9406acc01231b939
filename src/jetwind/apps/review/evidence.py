"""What a station shows besides its findings: the things themselves, as a table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from jetwind.core.checking import Context
from jetwind.core.links import links
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of


@dataclass(slots=True)
class Table:
    """Rows of plain cells under headings. ``elements`` gives the HTML element of each row, so that a finding can mark it."""

    title: str
    headings: list[str]
    rows: list[list[str]] = field(default_factory=list)
    elements: list[int | None] = field(default_factory=list)
    empty: str = "Nothing here."

    def add(self, *cells: object, element: int | None = None) -> None:
        """Add a row."""
        self.rows.append([str(cell) for cell in cells])
        self.elements.append(element)

    @property
    def numbered(self) -> list[tuple[int | None, list[str]]]:
        """Rows with their elements."""
        return list(zip(self.elements, self.rows, strict=True))


def kilobytes(octets: int) -> str:
    """Octets as KB of 1,024 octets, to one decimal place."""
    return f"{octets / 1024:,.1f} KB"


def _links(message: Message, context: Context) -> list[Table]:
    table = Table("Every link", ["Line", "Name", "Address", "Host"], empty="The message has no links.")
    source = message.html.source if message.html else message.text.source if message.text else None
    for link in links(message):
        line = source.position(link.span.start).line if source and link.span else ""
        table.add(line, link.name or "no name", link.address or "none", link.host, element=link.element.index if link.element else None)
    return [table]


def _footer(message: Message, context: Context) -> list[Table]:
    from jetwind.core.links.way_out import list_unsubscribe_targets, unsubscribe_link
    from jetwind.core.prose.postal import postal_address

    table = Table("What a footer owes the reader", ["Demand", "What meets it"])
    link = unsubscribe_link(message)
    table.add(
        "A way to unsubscribe",
        f"{link.name} → {link.address}" if link else "nothing found",
        element=link.element.index if link and link.element else None,
    )
    table.add("A postal address", postal_address(reading_of(message).visible_text) or "nothing found")
    header = message.header("List-Unsubscribe")
    table.add("List-Unsubscribe header", " ".join(list_unsubscribe_targets(header.value)) if header else "none in what was taken in")
    return [table]


_TABLES: dict[str, Callable[[Message, Context], list[Table]]] = {
    "links": _links,
    "footer": _footer,
}


def tables_for(slug: str, message: Message, context: Context) -> list[Table]:
    """The tables of a station."""
    make = _TABLES.get(slug)
    return make(message, context) if make else []
