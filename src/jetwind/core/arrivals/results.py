"""The receiver's word on the papers of a mail: the Authentication-Results header field (RFC 8601 §2.2)."""

from __future__ import annotations

import re
from dataclasses import dataclass

from jetwind.core.message import Message

#: Characters of one field that are read, and results in it; real fields have some hundred characters and four results.
_MOST_CHARACTERS, _MOST_RESULTS = 4_000, 40
_TOKEN = re.compile(
    r"""(?P<quoted>"(?:[^"\\]|\\.){0,998}")|(?P<comment>\()|(?P<mark>[;=/])|(?P<word>[^\s();="/]+)""",
    re.DOTALL,
)


@dataclass(frozen=True, slots=True)
class Verdict:
    """One method's result, such as ``spf`` and ``fail``; the reason that the receiver gives, and properties such as ``header.d``."""

    method: str
    result: str
    reason: str = ""
    properties: tuple[tuple[str, str], ...] = ()

    @property
    def subject(self) -> str:
        """The domain or address that was judged: of a signature, of the envelope, or of From (§2.7); empty where the receiver names none."""
        return next(filter(None, map(self.value_of, ("header.d", "header.i", "smtp.mailfrom", "smtp.helo", "header.from"))), "")

    def value_of(self, name: str) -> str:
        """The value of a property such as ``smtp.mailfrom``; empty where there is none."""
        return next((value for key, value in self.properties if key == name), "")


@dataclass(frozen=True, slots=True)
class Verdicts:
    """The results of one receiver, which ``receiver`` names (the authserv-id, §2.5)."""

    receiver: str
    verdicts: tuple[Verdict, ...]

    def of(self, method: str) -> tuple[Verdict, ...]:
        """The verdicts of a method, in order; a mail with several signatures has several of ``dkim``."""
        return tuple(one for one in self.verdicts if one.method == method)

    def _results(self, method: str) -> tuple[str, ...]:
        return tuple(one.result for one in self.of(method))

    @property
    def fails(self) -> bool:
        """Whether the papers do not hold: DMARC fails, or SPF and every signature fail (§2.7.1, §2.7.2; RFC 7489 §11.2)."""
        if "fail" in self._results("dmarc"):
            return True
        signatures = self._results("dkim")
        return "fail" in self._results("spf") and bool(signatures) and all(result in ("fail", "permerror") for result in signatures)


def verdicts_of(message: Message) -> Verdicts | None:
    """The results of the receiver that had the mail last: those of the topmost field. Others may have been written by anybody (§5).

    None where there is no field, or the topmost one cannot be read.
    """
    header = message.header("Authentication-Results")
    return read_results(header.value) if header is not None else None


def read_results(value: str) -> Verdicts | None:
    """The results in the body of one field; None where it has no authserv-id.

    Comments and what fits the grammar nowhere are passed over (§2.2).
    """
    groups = _groups(value[:_MOST_CHARACTERS])
    if not groups or not groups[0] or groups[0][0] in (";", "=", "/"):
        return None
    found = [verdict for group in groups[1 : _MOST_RESULTS + 1] if (verdict := _verdict(group)) is not None]
    return Verdicts(groups[0][0].lower(), tuple(found))


def _groups(value: str) -> list[list[str]]:
    """The tokens between semicolons, without comments."""
    groups: list[list[str]] = [[]]
    at = 0
    while (match := _TOKEN.search(value, at)) is not None:
        at = match.end()
        if match["comment"]:
            at = _after_comment(value, at)
        elif match["mark"] == ";":
            groups.append([])
        else:
            groups[-1].append(re.sub(r"\\(.)", r"\1", match["quoted"][1:-1]) if match["quoted"] else match[0])
    return [_joined(group) for group in groups]


def _joined(tokens: list[str]) -> list[str]:
    """The tokens with each point that stands alone, between comments or blanks, drawn to its neighbours: the name of one property."""
    found: list[str] = []
    for piece in tokens:
        if found and (piece == "." or found[-1].endswith("\0")):
            found[-1] = found[-1].removesuffix("\0") + piece + ("\0" if piece == "." else "")
        else:
            found.append(piece)
    return [token.removesuffix("\0") for token in found]


def _after_comment(value: str, at: int) -> int:
    """Behind the bracket that closes a comment, which may hold others (RFC 5322 §3.2.2)."""
    depth = 1
    while at < len(value) and depth:
        depth += {"(": 1, ")": -1}.get(value[at], 0)
        at += 2 if value[at] == "\\" else 1
    return at


def _verdict(tokens: list[str]) -> Verdict | None:
    # A method may have a version behind a stroke: "dkim/1".
    if "=" not in tokens or tokens[0] in ("=", "/"):
        return None
    equals = tokens.index("=")
    if equals + 1 >= len(tokens) or equals not in (1, 3):
        return None
    reason, properties = "", []
    at = equals + 2
    while at + 2 < len(tokens) and tokens[at + 1] == "=":
        name, value = tokens[at].lower(), tokens[at + 2]
        # A value may be a path or an address with strokes in it, which came apart.
        at += 3
        while at + 1 < len(tokens) and tokens[at] == "/":
            value += f"/{tokens[at + 1]}"
            at += 2
        if name == "reason":
            reason = value
        else:
            properties.append((name, value))
    return Verdict(tokens[0].lower(), tokens[equals + 1].lower(), reason, tuple(properties))
