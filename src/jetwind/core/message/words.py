"""Encoded-words of header bodies: read (RFC 2047 §6), and what is wrong with those that cannot be read."""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator
from dataclasses import dataclass

from jetwind.core.message.charsets import decode_octets, encoding_of
from jetwind.core.source import Span

#: charset ["*" language] "?" encoding "?" text (RFC 2047 §2; the language is RFC 2231 §5). Writers do put plain spaces into
#: the text, which §2 forbids: readers forgive it, so it is read, and reported.
_WORD = re.compile(r"=\?(?P<charset>[^?\s*]+)(?:\*[^?\s]*)?\?(?P<encoding>[A-Za-z])\?(?P<text>[^?\r\n]*)\?=")
_OPENING = re.compile(r"=\?[\w.:-]+(?:\*[\w-]*)?\?[BbQq]\?")
_HEX = re.compile(r"=(?![0-9A-Fa-f]{2})")


@dataclass(frozen=True, slots=True)
class WordFault:
    """One malformed encoded-word: where it stands in the header body, and what is wrong in a clause for people."""

    span: Span
    text: str


@dataclass(frozen=True, slots=True)
class _Word:
    start: int
    end: int
    charset: str
    data: bytes
    fault: str


def decode_words(text: str) -> str:
    """A header body with its encoded-words read; what cannot be read stays as it is written."""
    if "=?" not in text:
        return text
    pieces: list[str] = []
    end = 0
    for run in _runs(text):
        pieces.extend((text[end : run[0].start], _decoded(run)))
        end = run[-1].end
    return "".join(pieces) + text[end:]


def word_faults(text: str) -> Iterator[WordFault]:
    """Everything that starts like an encoded-word and is not a good one (RFC 2047 §2, §5)."""
    if "=?" not in text:
        return
    covered: list[Span] = []
    for run in _runs(text):
        covered.append(Span(run[0].start, run[-1].end))
        encoding = encoding_of(run[0].charset)
        broken = next((word for word in run if word.fault), None)
        if encoding is None:
            yield WordFault(Span(run[0].start, run[-1].end), f"names the unknown character set {run[0].charset}")
        elif broken is not None:
            yield WordFault(Span(broken.start, broken.end), broken.fault)
        elif decode_octets(b"".join(word.data for word in run), encoding).faults:
            yield WordFault(Span(run[0].start, run[-1].end), f"holds octets that are not {run[0].charset}")
    for match in _OPENING.finditer(text):
        if not any(match.start() in span for span in covered):
            yield WordFault(Span(match.start(), len(text.rstrip())), "starts an encoded-word that does not end")


def _runs(text: str) -> Iterator[list[_Word]]:
    """Words of one charset that stand beside each other: joined as octets, since writers cut characters in two.

    White space between two encoded-words is not shown (§6.2).
    """
    run: list[_Word] = []
    for match in _WORD.finditer(text):
        word = _read(match)
        if run and text[run[-1].end : word.start].strip() == "":
            if run[-1].charset.lower() == word.charset.lower():
                run.append(word)
                continue
            # A neighbour in another charset: the gap between is dropped by stretching the earlier word over it.
            run[-1] = _Word(run[-1].start, word.start, run[-1].charset, run[-1].data, run[-1].fault)
        if run:
            yield run
        run = [word]
    if run:
        yield run


def _read(match: re.Match[str]) -> _Word:
    encoding, text = match["encoding"].upper(), match["text"]
    raw = text.encode("utf-8", "replace")
    fault = ""
    if encoding == "B":
        data, fault = _base64(raw)
    elif encoding == "Q":
        data = binascii.a2b_qp(raw, header=True)
        if _HEX.search(text):
            fault = "holds “=” without two hexadecimal digits"
    else:
        data, fault = match[0].encode("utf-8", "replace"), f"has the encoding {encoding}, which is neither B nor Q"
    if not fault and " " in text:
        fault = "holds a plain space"
    return _Word(match.start(), match.end(), match["charset"], data, fault)


def _base64(raw: bytes) -> tuple[bytes, str]:
    kept = re.sub(rb"[^A-Za-z0-9+/]", b"", raw)
    fault = "" if re.fullmatch(rb"[A-Za-z0-9+/]*={0,2}", raw) else "holds characters that base64 does not have"
    if len(kept) % 4 == 1:
        fault, kept = fault or "is cut-off base64", kept[:-1]
    elif not fault and len(raw) % 4:
        fault = "is base64 without its padding"
    return binascii.a2b_base64(kept + b"=" * (-len(kept) % 4)), fault


def _decoded(run: list[_Word]) -> str:
    return decode_octets(b"".join(word.data for word in run), encoding_of(run[0].charset) or "utf-8").text
