"""A copy as it was handed over and the mail that arrived, held against each other.

Transfer encodings, charsets, boundaries, the folding and the order of header fields, line ends and fields that servers add on the way are no
difference. Everything else is told, each difference once: what is lost with a part is not told again for its words, links and pictures.
"""

from __future__ import annotations

import difflib
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import islice

from jetwind.core.arrivals.differences import Difference, DifferencePart
from jetwind.core.arrivals.pictures import LIKENESS, Shown, looks_alike, shown_in
from jetwind.core.links.addresses import parsed
from jetwind.core.links.collect import Link, links, text_links
from jetwind.core.message import Header, Message
from jetwind.core.message.addresses import mailboxes
from jetwind.core.prose.alignment import Pair, Sentence, align, html_sentences, text_sentences
from jetwind.core.prose.passages import collapse
from jetwind.core.source import Span

__all__ = ["LIKENESS", "compare"]

#: Characters of a word, a name or an address that a sentence quotes, and differences of one kind that are told.
_QUOTED, _MOST = 60, 200
_WORD = re.compile(r"\S+")
#: Words of a sentence up to which one that is gone and one that came at its place are one change.
_FEW_WORDS = 4
_WEB = re.compile(r"(?:https?://|www\.|mailto:)\S+", re.IGNORECASE)
#: The mark of a test send before a subject.
_TEST_MARK = re.compile(r"\[Test r\d+\]\s*")
#: Fields that say how a mail is carried, or that servers write on its way.
_OF_TRANSPORT = re.compile(
    r"(?:content-.*|mime-version|received|return-path|delivered-to|x-.*|authentication-results|arc-.*|dkim-signature|domainkey-signature"
    r"|received-spf|envelope-to|lines|status|bcc)\Z"
)
#: Fields without which a reader answers the wrong person or cannot leave the list.
_HEAVY = frozenset({"from", "reply-to", "list-unsubscribe", "list-unsubscribe-post"})
_OF_ADDRESSES = frozenset({"from", "to", "cc", "reply-to", "sender"})
#: Characters that stand for one that could not be carried.
_LOST = frozenset("?\ufffd\u25a1")


def compare(copy: Message, arrival: Message, likeness: float = LIKENESS) -> tuple[Difference, ...]:
    """What differs. ``likeness`` is how alike a picture must look to be the same, from 0 to 1 (``images/likeness.py``)."""
    found = list(_headers(copy, arrival))
    lost_parts = list(_parts(copy, arrival))
    found += lost_parts
    found += _subject(copy, arrival)
    has_html = copy.html is not None and arrival.html is not None
    has_text = copy.text is not None and arrival.text is not None
    if has_html:
        found += _words(html_sentences(copy), html_sentences(arrival), "HTML")
        found += _links(list(links(copy)), list(links(arrival)), "HTML", arrival)
        found += _pictures(copy, arrival, likeness)
        found += _styles(copy, arrival)
    if has_text:
        found += _words(text_sentences(copy), text_sentences(arrival), "plain text")
        found += _text_addresses(list(text_links(copy)), list(text_links(arrival)))
    return tuple(_bounded(found))


def _bounded(found: Sequence[Difference]) -> Iterator[Difference]:
    """The first of each kind: nobody reads more, and a hostile arrival could hold any number."""
    told: Counter[str] = Counter()
    for one in found:
        told[one.kind] += 1
        if told[one.kind] <= _MOST:
            yield one


def _cut(text: str) -> str:
    flat = collapse(text)
    return flat if len(flat) <= _QUOTED else f"{flat[: _QUOTED - 1]}…"


# Headers.


def _headers(copy: Message, arrival: Message) -> Iterator[Difference]:
    names = dict.fromkeys(header.name.lower() for header in copy.headers)
    for name in names:
        if name == "subject" or _OF_TRANSPORT.fullmatch(name):
            continue
        before, after = list(copy.header_fields(name)), list(arrival.header_fields(name))
        left = Counter(_meaning(header) for header in after)
        for header in before:
            meaning = _meaning(header)
            if left[meaning]:
                left[meaning] -= 1
                continue
            now = next((other.value for other in after if left[_meaning(other)]), "")
            data = {"name": header.name, "before": _cut(header.value), "after": _cut(now)}
            template = "{name} was “{before}”, and arrived as “{after}”." if now else "The header {name} is gone; it was “{before}”."
            yield Difference(
                "header-lost",
                "header",
                template,
                data,
                before=header.value,
                after=now,
                is_stop=name in _HEAVY,
                identity=name,
            )


def _meaning(header: Header) -> str:
    """A header field without what writers may do otherwise: folding, blanks, quotation marks around a name."""
    if header.name.lower() in _OF_ADDRESSES:
        # A name may be written in quotation marks or as an encoded-word; an address keeps its case before the @.
        return "\n".join(f"{collapse(box.name)} <{box.address}>" for box in mailboxes(header.raw)) or collapse(header.value)
    return collapse(header.value)


# Parts.


def _parts(copy: Message, arrival: Message) -> Iterator[Difference]:
    for name, before, after in (("HTML", copy.html, arrival.html), ("plain text", copy.text, arrival.text)):
        if before is not None and before.text.strip() and after is None:
            yield Difference("part-lost", "message", "The {part} part is gone.", {"part": name}, identity=name)
    order = (_order(copy), _order(arrival))
    if all(order) and order[0] != order[1]:
        # The last one is shown (RFC 2046 §5.1.4).
        shown = {"text/plain": "plain text", "text/html": "HTML"}[order[1][-1]]
        yield Difference(
            "part-lost", "message", "The parts stand in another order, so that programs show the {part}.", {"part": shown}, identity="order"
        )
    kept = {resource.sha256 for resource in (*arrival.attachments, *arrival.images)}
    names = {resource.name for resource in (*arrival.attachments, *arrival.images)}
    for resource in copy.attachments:
        if resource.sha256 not in kept:
            template = "The attachment {name} arrived with other content." if resource.name in names else "The attachment {name} is gone."
            yield Difference("part-lost", "message", template, {"name": _cut(resource.name)}, identity=resource.name)
    yield from _added_parts(copy, arrival)


def _order(message: Message) -> tuple[str, ...]:
    """The order of plain text and HTML among the parts of a mail, where it has both."""
    if message.root is None:
        return ()
    kinds = [part.content_type for part in message.root.walk() if part.content_type in ("text/plain", "text/html")]
    first = tuple(dict.fromkeys(kinds))
    return first if len(first) == 2 else ()


def _added_parts(copy: Message, arrival: Message) -> Iterator[Difference]:
    known = {resource.sha256 for resource in (*copy.attachments, *copy.images)}
    names = {resource.name for resource in copy.attachments}
    for resource in arrival.attachments:
        if resource.sha256 not in known and resource.name not in names:
            yield Difference(
                "added-content", "message", "An attachment was added: {name}.", {"name": _cut(resource.name)}, identity=resource.name
            )
    for name, before, after in (("HTML", copy.html, arrival.html), ("plain text", copy.text, arrival.text)):
        if before is None and after is not None and after.text.strip():
            yield Difference("added-content", "message", "A part was added: {part}.", {"part": name}, identity=name)


# Words.


def _subject(copy: Message, arrival: Message) -> Iterator[Difference]:
    before, after = (collapse(_TEST_MARK.sub("", message.subject, count=1)) for message in (copy, arrival))
    if before != after:
        yield _changed("subject", before, after, None, None)


def _words(before: list[Sentence], after: list[Sentence], part: DifferencePart) -> Iterator[Difference]:
    for pair in _facing(align(before, after)):
        one, other = (_plain(sentence, part) for sentence in (pair.html, pair.text))
        if one == other:
            continue
        if pair.html is None and pair.text is not None:
            yield Difference(
                "added-content",
                part,
                "Text was added: “{words}”.",
                {"words": _cut(pair.text.text).rstrip(".")},
                after=pair.text.text,
                arrival_at=_at(pair.text.span),
                identity=other,
            )
        elif pair.html is not None and pair.text is None:
            yield Difference(
                "text-changed",
                part,
                "Text is gone: “{words}”.",
                {"words": _cut(pair.html.text).rstrip(".")},
                before=pair.html.text,
                copy_at=_at(pair.html.span),
                identity=one,
            )
        else:
            assert pair.html is not None and pair.text is not None
            yield _changed(part, one, other, _at(pair.html.span), _at(pair.text.span))


def _facing(pairs: Sequence[Pair]) -> Iterator[Pair]:
    """The pairs; a few words that are gone and a few that came at the same place face each other: they are one change."""
    waits: Pair | None = None
    for pair in pairs:
        if waits is not None and pair.html is None and _is_short(pair.text):
            yield Pair(waits.html, pair.text, 0.0)
            waits = None
            continue
        if waits is not None:
            yield waits
        waits = pair if pair.text is None and _is_short(pair.html) else None
        if waits is None:
            yield pair
    if waits is not None:
        yield waits


def _is_short(sentence: Sentence | None) -> bool:
    return sentence is not None and len(sentence.words) <= _FEW_WORDS


def _plain(sentence: Sentence | None, part: DifferencePart) -> str:
    """The words of a sentence. Addresses of links and of the plain text are compared by themselves."""
    if sentence is None:
        return ""
    words = collapse(sentence.text)
    return words if part == "HTML" and not sentence.is_link else _WEB.sub("…", words)


def _at(span: Span | None) -> tuple[int, int] | None:
    return (span.start, span.end) if span is not None else None


def _changed(
    part: DifferencePart, before: str, after: str, copy_at: tuple[int, int] | None, arrival_at: tuple[int, int] | None
) -> Difference:
    one, other = _WORD.findall(before), _WORD.findall(after)
    steps = [step for step in difflib.SequenceMatcher(None, one, other, autojunk=False).get_opcodes() if step[0] != "equal"]
    words = [(" ".join(one[i1:i2]), " ".join(other[j1:j2])) for _, i1, i2, j1, j2 in steps]
    was, now = (" … ".join(filter(None, side)) for side in zip(*words, strict=True)) if words else ("", "")
    data = {"part": part, "before": _cut(was), "after": _cut(now)}
    if lost := _lost_characters(was, now):
        template, data = "Characters of the {part} were lost: {lost} in “{before}”.", {**data, "lost": lost}
    elif not now:
        template = "Words of the {part} are gone: “{before}”."
    elif not was:
        template = "Words were put into the {part}: “{after}”."
    else:
        template = "Words of the {part} changed: “{before}” became “{after}”."
    return Difference(
        "text-changed", part, template, data, before=before, after=after, copy_at=copy_at, arrival_at=arrival_at, identity=before
    )


def _lost_characters(before: str, after: str) -> str:
    """The characters beyond ASCII that question marks or the like took the place of, or that fell away; empty where it is otherwise."""
    steps = [step for step in difflib.SequenceMatcher(None, before, after, autojunk=False).get_opcodes() if step[0] != "equal"]
    lost: list[str] = []
    for kind, i1, i2, j1, j2 in steps:
        gone, come = before[i1:i2], after[j1:j2]
        if kind == "insert" or gone.isascii() or not set(come) <= _LOST:
            return ""
        lost += [char for char in gone if not char.isascii()]
    return " ".join(islice(dict.fromkeys(lost), 8))


# Links.


def _links(before: list[Link], after: list[Link], part: DifferencePart, arrival: Message) -> Iterator[Difference]:
    names = tuple([collapse(link.name).casefold() for link in side] for side in (before, after))
    visible = " ".join(sentence.text for sentence in html_sentences(arrival)).casefold()
    for kind, i1, i2, j1, j2 in difflib.SequenceMatcher(None, names[0], names[1], autojunk=False).get_opcodes():
        if kind == "insert":
            continue  # its words or its picture are told as added
        pairs = min(i2 - i1, j2 - j1) if kind != "delete" else 0
        for at in range(pairs):
            yield from _rewritten(before[i1 + at], after[j1 + at], part)
        for link in before[i1 + pairs : i2]:
            # Where the words of a link are gone, too, they are told; a picture's loss tells of its link.
            if (name := collapse(link.name)) and name.casefold() in visible:
                data = {"name": _cut(name), "before": _cut(link.address or "")}
                template = "“{name}” is no link any more; {before} was its address."
                yield Difference(
                    "link-rewritten", part, template, data, link.address or "", copy_at=_at(link.span), is_stop=True, identity=name
                )


def _rewritten(before: Link, after: Link, part: DifferencePart) -> Iterator[Difference]:
    if _same_address(before.address, after.address):
        return
    data = {
        "name": _cut(before.name) or "a picture",
        "before": _cut(before.address or "nowhere"),
        "after": _cut(after.address or "nowhere"),
    }
    yield Difference(
        "link-rewritten",
        part,
        "The link “{name}” led to {before}, and leads to {after} now.",
        data,
        before=before.address or "",
        after=after.address or "",
        copy_at=_at(before.span),
        arrival_at=_at(after.span),
        is_stop=not (after.address or "").strip(),
        identity=before.address or "",
    )


def _same_address(before: str | None, after: str | None) -> bool:
    if (before or "").strip() == (after or "").strip():
        return True
    one, other = parsed((before or "").strip()), parsed((after or "").strip())
    return one is not None and other is not None and one.href == other.href


def _text_addresses(before: list[Link], after: list[Link]) -> Iterator[Difference]:
    """Addresses in plain text: they have no names, so the longest rows of equal ones face each other."""
    sides = tuple([link.address or "" for link in side] for side in (before, after))
    for kind, i1, i2, j1, j2 in difflib.SequenceMatcher(None, sides[0], sides[1], autojunk=False).get_opcodes():
        if kind == "replace":
            for one, other in zip(before[i1:i2], after[j1:j2], strict=False):
                yield from _rewritten(one, other, "plain text")


# Pictures.


def _pictures(copy: Message, arrival: Message, likeness: float) -> Iterator[Difference]:
    before, after = shown_in(copy), shown_in(arrival)
    sides = tuple([picture.key for picture in side] for side in (before, after))
    for kind, i1, i2, j1, j2 in difflib.SequenceMatcher(None, sides[0], sides[1], autojunk=False).get_opcodes():
        pairs = min(i2 - i1, j2 - j1) if kind == "replace" else 0
        for one, other in zip(before[i1 : i1 + pairs], after[j1 : j1 + pairs], strict=True):
            yield from _replaced(one, other, likeness)
        if kind != "equal":
            yield from (_gone(picture) for picture in before[i1 + pairs : i2])
            yield from (_added(picture) for picture in after[j1 + pairs : j2])


def _gone(picture: Shown) -> Difference:
    data = {"name": _cut(picture.name)}
    return Difference(
        "picture-lost", "HTML", "The picture {name} is gone.", data, picture.written, copy_at=_at(picture.span), identity=picture.written
    )


def _replaced(before: Shown, after: Shown, likeness: float) -> Iterator[Difference]:
    data: dict[str, str | int] = {"name": _cut(before.name), "after": _cut(after.written or "nothing")}
    places = {"before": before.written, "after": after.written, "copy_at": _at(before.span), "arrival_at": _at(after.span)}
    if before.resource is None and after.resource is None:
        if _same_address(before.written, after.written):
            return
        if parsed(after.written) is not None:
            template = "The picture {name} comes from {after} now."
            yield Difference("link-rewritten", "HTML", template, data, identity=before.written, **places)  # type: ignore[arg-type]
            return
    elif before.resource is not None and after.resource is not None:
        alike = looks_alike(before.resource, after.resource)
        if alike is None or alike >= likeness:
            return
        template, data = "The picture {name} looks otherwise: {alike} % alike.", {**data, "alike": int(alike * 100)}
        yield Difference("picture-lost", "HTML", template, data, identity=before.written, **places)  # type: ignore[arg-type]
        return
    template = "The picture {name} does not come along: {after} stands in its place."
    yield Difference("picture-lost", "HTML", template, data, identity=before.written, **places)  # type: ignore[arg-type]


def _added(picture: Shown) -> Difference:
    data = {"name": _cut(picture.written or picture.name)}
    template = "A picture that only counts openings was added: {name}." if picture.is_pixel else "A picture was added: {name}."
    return Difference(
        "added-content", "HTML", template, data, after=picture.written, arrival_at=_at(picture.span), identity=picture.written
    )


# Styles.


def _styles(copy: Message, arrival: Message) -> Iterator[Difference]:
    assert copy.document is not None and arrival.document is not None
    sheets = [(element, text) for element in copy.document.elements("style") if (text := collapse(element.text))]
    before = Counter(text for _, text in sheets)
    after = Counter(collapse(element.text) for element in arrival.document.elements("style"))
    # A sheet that is there on both sides stands for no other.
    lost, after = before - after, after - before
    for element, text in sheets:
        if not lost[text]:
            continue
        lost[text] -= 1
        other = next(
            (one for one in after if after[one] and difflib.SequenceMatcher(None, one[:4_000], text[:4_000]).quick_ratio() > 0.6), ""
        )
        template = (
            "A style sheet lost rules: {before} characters became {after}." if other else "A style sheet of {before} characters is gone."
        )
        if other:
            after[other] -= 1
        yield Difference(
            "style-lost",
            "HTML",
            template,
            {"before": len(text), "after": len(other)},
            before=text[:2_000],
            after=other[:2_000],
            copy_at=_at(element.start_tag),
            identity=text[:200],
        )
    yield from _style_attributes(copy, arrival)


def _style_attributes(copy: Message, arrival: Message) -> Iterator[Difference]:
    before, after = (
        Counter(collapse(style).rstrip("; ") for element in document.all_elements if (style := element.get("style")))
        for document in (copy.document, arrival.document)
        if document is not None
    )
    lost = before - after
    if count := lost.total():
        first = next(iter(lost))
        data: dict[str, str | int] = {"count": count, "all": before.total(), "first": _cut(first)}
        template = "{count} of {all} style attributes are gone or changed, the first: {first}"
        yield Difference("style-lost", "HTML", template, data, before=first, identity="attributes")
