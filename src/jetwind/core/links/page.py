"""A landing page's own account, read from its HTML."""

from __future__ import annotations

from jetwind.core.links.addresses import parsed
from jetwind.core.links.answers import Page
from jetwind.core.markup import Document, Element, TextRun, parse
from jetwind.core.message.mime import text_part

#: Octets of a page that are read, and characters of its copy that are kept.
MOST_READ = 1_000_000
MOST_TEXT = 40_000
_NOT_COPY = frozenset({"script", "style", "template", "noscript", "title", "svg", "select"})


def page_of(data: bytes, charset: str | None = None) -> Page:
    """Title, main heading, language and copy of an HTML page. Never raises; what lies beyond the limits is left out.

    The charset is that of the answer's Content-Type, else the document's own (HTML §13.2.3.2).
    """
    document = parse(text_part(data[:MOST_READ], charset, is_html=True).text)

    def first(*tags: str) -> str:
        return next((words for element in document.elements(*tags) if (words := _tidy(element.text))), "")

    html = next(document.elements("html"), None)
    return Page(
        title=first("title")[:300],
        heading=(first("h1") or first("h2"))[:300],
        language=((html.get("lang") if html is not None else None) or "").strip()[:40],
        text=_tidy(" ".join(_copy(document.root)))[:MOST_TEXT],
        hosts=_hosts(document),
        links=sum("href" in element.names for element in document.elements("a")),
    )


#: Hosts of a page's style sheets and pictures that are let in, beside its own.
_MOST_HOSTS = 12


def _hosts(document: Document) -> tuple[str, ...]:
    found: dict[str, None] = {}
    for element in document.elements("link", "img"):
        address = parsed((element.get("href" if element.tag == "link" else "src") or "").strip(), "https://base.invalid/")
        if address is not None and address.host and address.host != "base.invalid" and len(found) < _MOST_HOSTS:
            found[address.host] = None
    return tuple(found)


def _copy(root: Element) -> list[str]:
    words: list[str] = []
    left = MOST_TEXT * 2
    stack: list[Element | TextRun] = [root]
    while stack and left > 0:
        node = stack.pop()
        if isinstance(node, TextRun):
            words.append(node.text[:left])
            left -= len(words[-1]) + 1
        elif node.tag not in _NOT_COPY:
            stack.extend(reversed(node.children))
    return words


def _tidy(text: str) -> str:
    return " ".join(text.split())
