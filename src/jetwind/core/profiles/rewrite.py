"""Message and profile to the HTML that the browser renders, with the list of what was dropped.

Only exact places of the source change. Every element that stands in the source is marked with its index, so that what
the browser measures can be laid beside findings.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from jetwind.core.markup import Element
from jetwind.core.message import Message, Resource, image_references
from jetwind.core.profiles.profile import Profile
from jetwind.core.source import Edit, Span, splice

#: The only host that the browser's proxy knows; ``.invalid`` never resolves (RFC 2606 §2).
PARTS_HOST = "parts.jetwind.invalid"
MARK_ATTRIBUTE = "data-jetwind-element"

#: Elements that no mail client runs or loads (common practice, no published source).
_REMOVED = frozenset({"script", "iframe", "object", "embed", "applet", "frame", "frameset", "base", "noscript", "audio", "video"})


@dataclass(frozen=True, slots=True)
class Dropped:
    """One thing that this client does not take: the feature, and where it stands in the source."""

    feature: str
    span: Span


@dataclass(frozen=True, slots=True)
class Rewritten:
    """HTML to render, the pictures it may load by path, what was dropped, and how many pictures lie elsewhere."""

    html: str
    parts: dict[str, Resource]
    dropped: tuple[Dropped, ...]
    remote_pictures: int


def rewrite(message: Message, profile: Profile, images: Literal["on", "off"] = "on") -> Rewritten:
    """The HTML as ``profile`` would take it; with ``images`` off, alternative texts stand in for pictures.

    A message without HTML is shown as its plain text.
    """
    if message.html is None or message.document is None:
        return Rewritten(_plain_page(message), {}, (), 0)
    edits: list[Edit] = []
    dropped: list[Dropped] = []
    removed: list[Span] = []
    for element in message.document.all_elements:
        span, start = element.span, element.start_tag
        if span is None or start is None or any(outer.contains(start) for outer in removed[-1:]):
            continue
        feature = _refused(element)
        if feature:
            whole = start if element.tag in ("base", "meta", "link", "embed", "frame") else span
            removed.append(whole)
            dropped.append(Dropped(feature, whole))
            edits.append(Edit(whole, ""))
            continue
        edits.append(Edit.insert(start.start + 1 + len(element.tag), f' {MARK_ATTRIBUTE}="{element.index}"'))
        for name, attribute in element.attributes.items():
            if name.startswith("on") or name in ("srcdoc", "ping"):
                dropped.append(Dropped(f"attribute {name}", attribute.span))
                edits.append(Edit(attribute.span, ""))
            elif name == "srcset":
                dropped.append(Dropped("attribute srcset", attribute.span))
                edits.append(Edit(attribute.span, ""))
    parts: dict[str, Resource] = {}
    remote = 0
    for reference in image_references(message):
        if any(outer.contains(reference.span) for outer in removed):
            continue
        resource = message.resource(reference.value) if reference.is_local else None
        if images == "off":
            # An address that the browser is refused: it draws the box with its alternative text, as a client does.
            edits.append(Edit(reference.span, f"http://{PARTS_HOST}/blocked"))
        elif resource is not None:
            parts[resource.sha256] = resource
            edits.append(Edit(reference.span, f"http://{PARTS_HOST}/{resource.sha256}"))
        elif reference.scheme in ("http", "https", "//"):
            remote += 1
    return Rewritten(splice(message.html.text, edits), parts, tuple(dropped), remote)


def _refused(element: Element) -> str | None:
    if element.tag in _REMOVED:
        return f"element {element.tag}"
    if element.tag == "meta" and (element.get("http-equiv") or "").lower() in ("refresh", "content-security-policy"):
        return f"meta {(element.get('http-equiv') or '').lower()}"
    if element.tag == "link" and "stylesheet" in (element.get("rel") or "").lower():
        return "linked style sheet"
    return None


def _plain_page(message: Message) -> str:
    from html import escape

    text = escape(message.text.text if message.text else "")
    return f'<!doctype html><meta charset="utf-8"><body style="margin:16px"><pre style="white-space:pre-wrap;font:15px/1.5 monospace">{text}</pre>'
