"""Letters are the ones that were meant."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html.entities import html5

from jetwind.core.checking import Context, Finding, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, source_at, turns
from jetwind.core.message import Envelope, Message

#: What the octets 80 to BF look like when UTF-8 is read as windows-1252.
_TAIL = "\u0080-\u00bf€‚ƒ„…†‡ˆ‰Š‹ŒŽ‘’“”•–—˜™š›œžŸ"
_TWO = re.compile(f"[ÂÃ][{_TAIL}]")
_TWO_ROW = re.compile(f"(?:[Ä-ß][{_TAIL}]){{3,}}")
_MORE = re.compile(f"[à-ï][{_TAIL}]{{2}}|[ð-ô][{_TAIL}]{{3}}")
#: After a capital these are ordinary closing marks: “IRMÔ, «CRÈME CARÂ», CAFÉ™.
_CLOSING = "»”“’‘…™®›—–«"
_ENTITY = re.compile(r"&(?:#\d{2,6}|#[xX][0-9a-fA-F]{2,5}|[A-Za-z][A-Za-z0-9]{1,30});")
_LOST = re.compile("[\ufffd\u0080-\u009f]")


@check(
    id="wording.mojibake",
    name="Garbled letters",
    level=Level.STOP,
    why="The reader sees codes and wrong letters where accents, quotes and dashes should stand.",
    fix="Type the letters anew, save as UTF-8, and do not encode entities twice.",
    basis="Unicode Standard §3.9 (UTF-8; from memory)",
    together="{many} places have letters that were garbled or lost.",
    samples=[
        clear("<p>Crème brûlée, naïve façade, Ångström, «IRMÃ», Â, 25 °C, 3 × 4, “CAFÉ”, O’Brien — £5 · €6 … ™</p>"),
        clear("<p>Привет, мир! Привіт. Γειά σου. こんにちは 🏺</p>"),
        clear("<p>Fish &amp; chips, A&nbsp;&lt;&nbsp;B, R&D; AT&T</p>"),
        clear("<p>PÃO E MAÇÃ, NÃO. «CRÊPE BRÛLÉE»</p>"),
        finds("<p>Itâ€™s ready</p>", at="â€™"),
        finds("<p>Only Â£24</p>", at="Â£"),
        finds("<p>CrÃ¨me brÃ»lÃ©e</p>", at="Ã¨"),
        finds("<p>Caf\ufffd</p>", at="\ufffd"),
        finds("<p>ÐŸÑ€Ð¸Ð²ÐµÑ‚</p>"),
        finds("<p>ðŸ\u008fº Pots</p>"),
        finds("<p>Ready&amp;nbsp;now</p>", at="&amp;nbsp;"),
        finds("<p>x</p>", envelope=Envelope(subject="Fish &amp; chips", sender_address="a@b.org")),
        finds("Subject: x\nFrom: a@b.org\nContent-Type: text/plain; charset=utf-8\n\nItâ€™s ready\n", at="â€™"),
        finds("<img src='cid:a' alt='CafÃ©'>", at="Ã©"),
    ],
)
def find_garbled(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The copy holds no UTF-8 that was decoded twice, no replacement characters, and no entities shown as text."""
    told: set[tuple[str, str]] = set()
    subject = message.header("Subject")
    for copy in copies.all_copy(message):
        part = message.text if copy.where == copies.TEXT else None if copy.where == copies.SUBJECT else message.html
        if part is not None and (part.faults or part.is_utf_8):
            continue  # the whole part was read in a charset that it is not in: that is told once, by appearance.charset
        if copy.where == copies.SUBJECT and subject is not None and not subject.octets.isascii():
            continue  # raw octets in a header are that header's own fault
        found = next(_garbled(copy.text, entities=copy.where != copies.TEXT), None)
        if found is None or (copy.where, found[0]) in told:
            continue
        words, start, end, meant = found
        told.add((copy.where, words))
        yield Hit(
            "“{words}” in the {where} should be “{meant}”." if meant else "“{words}” in the {where} is a letter that was lost.",
            copy.place(start, end),
            {"words": words, "where": copy.where, "meant": meant},
            identity=words,
        )


def _garbled(text: str, *, entities: bool) -> Iterator[tuple[str, int, int, str]]:
    """The first garbled stretch: its words, its place, and what was meant, where that can be told."""
    yield from sorted(_all_garbled(text, entities=entities, first=True), key=lambda item: item[1])[:1]


def _all_garbled(text: str, *, entities: bool, first: bool = False) -> list[tuple[str, int, int, str]]:
    """Every garbled stretch, or the first of each kind; a stretch that several patterns see stands for each of them."""
    found: list[tuple[str, int, int, str]] = []
    if not text.isascii():
        for pattern in (_MORE, _TWO_ROW, _TWO):
            for match in pattern.finditer(text):
                meant = _meant(match[0])
                before = text[max(0, match.start() - 1) : match.start()]
                if not meant or (pattern is _TWO and match[0][1] in _CLOSING and before.isupper()):
                    continue
                found.append((match[0], match.start(), match.end(), meant))
                if first:
                    break
        lost = _LOST.search(text)
        if lost and not any(start <= lost.start() < end for _, start, end, _ in found):
            found.append((lost[0], lost.start(), lost.end(), ""))
    if entities and "&" in text:
        for match in _ENTITY.finditer(text):
            if match[0].startswith("&#") or match[0][1:] in html5:
                found.append((match[0], match.start(), match.end(), _entity(match[0])))
                if first:
                    break
    return found


def _entity(reference: str) -> str:
    from html import unescape

    return unescape(reference) if unescape(reference).strip() else "a space"


def _meant(garbled: str) -> str:
    octets = bytearray()
    for char in garbled:
        try:
            octets += char.encode("cp1252")
        except UnicodeEncodeError:
            if ord(char) > 0xFF:
                return ""
            octets.append(ord(char))
    try:
        meant = octets.decode("utf-8")
    except UnicodeDecodeError:
        return ""
    return meant if all(char.isprintable() or char == "\u00a0" for char in meant) else ""


@mend(
    "wording.mojibake",
    kind=MendKind.CONFIRM,
    does="Letters that were read in another character set become those that were meant, and entities that were encoded twice become entities, in all of the part.",
    leaves="Letters that were lost are left to a person, and so are headers.",
    samples=[
        turns("<p>Itâ€™s ready, only Â£24</p><p>CrÃ¨me brÃ»lÃ©e</p>", "<p>It’s ready, only £24</p><p>Crème brûlée</p>"),
        turns("<p>Ready&amp;nbsp;now, &amp;lt;b&amp;gt;</p>", "<p>Ready&nbsp;now, &lt;b&gt;</p>"),
        turns("<img src='cid:a' alt='CafÃ©'>", "<img src='cid:a' alt='Café'>"),
        turns(
            "Subject: x\nFrom: a@b.org\nContent-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: 8bit\n\nItâ€™s ready\n",
            "Subject: x\nFrom: a@b.org\nContent-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: 8bit\n\nIt’s ready\n",
        ),
        leaves_alone("<p>Caf\ufffd</p>"),
        leaves_alone("<p>x</p>", envelope=Envelope(subject="Fish &amp; chips", sender_address="a@b.org")),
    ],
)
def mend_garbled(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The first of two findings of one part mends all of it: one that stayed would be told next."""
    where = str(finding.data.get("where") or next(iter(finding.each("where")), ""))
    for copy in copies.all_copy(message):
        if copy.where != where or copy.where == copies.SUBJECT:
            continue
        end = 0
        for words, start, stop, meant in sorted(_all_garbled(copy.text, entities=copy.where != copies.TEXT), key=lambda one: one[1:3]):
            if not meant or start < end or (found := source_at(message, copy.place(start, stop))) is None:
                continue
            end = stop
            part, span, written = found
            if written == words:
                yield Change(part, span, meant)
            elif written == words.replace("&", "&amp;", 1):
                yield Change(part, span, words)
