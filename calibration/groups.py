"""Messages that must stand in one fold: those of one sender, of one subject, and near-duplicates.

Were one of them learned from and another measured, the figures would tell how well a message is known again.
"""

from __future__ import annotations

import email
import re
import zlib
from collections import Counter
from collections.abc import Iterable, Sequence
from email.utils import parseaddr

#: Folds that messages are parted into, by group.
FOLDS = 5
_WORD = re.compile(r"\w+")
_REPLY = re.compile(r"(?i)^((re|fw|fwd)\s*:\s*|\[[^\]]*\]\s*)+")
#: Words of a run, and words of a message that runs are made of.
_RUN, _MOST_WORDS = 5, 3_000
#: Messages that share a run which more of them have are not held against each other for it: it is a list's footer.
_COMMON = 400


def grouped(raws: Sequence[bytes]) -> list[int]:
    """For each message the number of its group: the first message that it is joined with, directly or by way of others."""
    first = list(range(len(raws)))

    def root(number: int) -> int:
        while first[number] != number:
            first[number] = first[first[number]]
            number = first[number]
        return number

    def join(one: int, other: int) -> None:
        low, high = sorted((root(one), root(other)))
        first[high] = low

    seen: dict[str, int] = {}
    for number, raw in enumerate(raws):
        head = email.message_from_bytes(raw)
        sender = parseaddr(str(head.get("From") or ""))[1].lower()
        subject = _REPLY.sub("", str(head.get("Subject") or "")).strip().lower()
        for key in (f"from {sender}" if sender else "", f"about {subject}" if subject else ""):
            if key:
                join(number, seen.setdefault(key, number))
    for one, other in near_duplicates([runs_of(raw) for raw in raws]):
        join(one, other)
    return [root(number) for number in range(len(raws))]


def runs_of(raw: bytes) -> frozenset[int]:
    """Every run of five words of a message's texts, each as a number."""
    texts: list[str] = []
    for part in email.message_from_bytes(raw).walk():
        payload = part.get_payload(decode=True) if part.get_content_maintype() == "text" else None
        if isinstance(payload, bytes):
            texts.append(payload.decode("latin-1"))
    words = [word.lower() for word in _WORD.findall(re.sub(r"<[^>]{0,2000}>", " ", " ".join(texts)))][:_MOST_WORDS]
    return frozenset(zlib.crc32(" ".join(words[at : at + _RUN]).encode()) for at in range(len(words) - _RUN + 1))


def near_duplicates(runs: Sequence[frozenset[int]]) -> Iterable[tuple[int, int]]:
    """Pairs of messages each of which shares more than half of its runs with the other."""
    having: dict[int, list[int]] = {}
    for number, own in enumerate(runs):
        for run in own:
            having.setdefault(run, []).append(number)
    shared: Counter[tuple[int, int]] = Counter()
    for numbers in having.values():
        if len(numbers) <= _COMMON:
            shared.update((one, other) for at, one in enumerate(numbers) for other in numbers[at + 1 :])
    return sorted(pair for pair, count in shared.items() if count * 2 > max(len(runs[pair[0]]), len(runs[pair[1]])))


def folds(groups: Sequence[int], kinds: Sequence[str]) -> list[int]:
    """A fold for each message: groups stay whole, the largest are placed first, each where its kinds of mail are fewest."""
    all_of = Counter(kinds)
    of_group: dict[int, Counter[str]] = {}
    for group, kind in zip(groups, kinds, strict=True):
        of_group.setdefault(group, Counter())[kind] += 1
    placed: list[Counter[str]] = [Counter() for _ in range(FOLDS)]
    fold: dict[int, int] = {}
    for group, own in sorted(of_group.items(), key=lambda pair: (-pair[1].total(), pair[0])):
        fold[group] = min(range(FOLDS), key=lambda at: (sum(own[kind] * placed[at][kind] / all_of[kind] ** 2 for kind in own), at))
        placed[fold[group]].update(own)
    return [fold[group] for group in groups]
