"""Campaign parameters put into an address: appended where they are not there, replaced where they are."""

from __future__ import annotations

from collections.abc import Mapping


def with_parameters(address: str, parameters: Mapping[str, str]) -> str:
    """An address with these parameters, before any ``#``; everything else of it stays as it is written (RFC 3986 §3.4).

    One that is there already gets the value in its first place and is taken out of the others; one without a value is left as it is.
    """
    start, hash_mark, fragment = address.partition("#")
    path, mark, query = start.partition("?")
    wanted = {name: value for name, value in parameters.items() if value}
    kept: list[str] = []
    for piece in query.split("&") if mark else []:
        name = piece.partition("=")[0]
        if name not in parameters or name not in wanted:
            if piece or kept:
                kept.append(piece)
        elif not any(other.partition("=")[0] == name for other in kept):
            kept.append(f"{name}={wanted[name]}")
    there = {piece.partition("=")[0] for piece in kept}
    kept += [f"{name}={value}" for name, value in wanted.items() if name not in there]
    return f"{path}{'?' + '&'.join(kept) if kept or mark else ''}{hash_mark}{fragment}"
