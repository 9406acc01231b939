"""The blob store: octets by their SHA-256. The same octets are kept once, and what is kept never changes."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from django.core.files.base import ContentFile
from django.core.files.storage import storages

from jetwind.apps.ui.refusal import Refused


class BlobMissing(Refused):
    """The store has no octets of this digest: its folder was changed by hand, or not restored."""


class BlobBroken(BlobMissing):
    """The file under this digest has another digest: a disk failed, or somebody changed the file."""


_WHAT_TO_DO = "The administrator sees with “./jetwind verify-store” what else is not whole."


def keep(data: bytes) -> str:
    """Store octets and return their SHA-256, hexadecimal. What the store has of them already is mended where it is broken."""
    digest = hashlib.sha256(data).hexdigest()
    store, name = storages["blobs"], _name(digest)
    if store.exists(name):
        try:
            fetch(digest)
            return digest
        except BlobBroken:
            store.delete(name)
        except BlobMissing:
            pass  # it went between the two questions
    store.save(name, ContentFile(data))
    return digest


def fetch(digest: str) -> bytes:
    """The octets of a digest.

    Raises:
        BlobMissing: nothing is stored under it.
        BlobBroken: the file under this digest holds other octets.
    """
    try:
        with storages["blobs"].open(_name(digest)) as file:
            data: bytes = file.read()
    except FileNotFoundError:
        raise BlobMissing(f"The file {digest[:12]}… is not in the store any more. {_WHAT_TO_DO}") from None
    if hashlib.sha256(data).hexdigest() != digest:
        raise BlobBroken(f"The file {digest[:12]}… is broken in the store. {_WHAT_TO_DO}")
    return data


def kept() -> Iterator[str]:
    """The digest of everything that the store has, in order; files of other names are left out."""
    folders, _ = storages["blobs"].listdir("")
    for folder in sorted(folders):
        _, names = storages["blobs"].listdir(folder)
        yield from (f"{folder}{name}" for name in sorted(names) if len(folder) == 2 and len(name) == 62)


def octets_of(digest: str) -> int:
    """How many octets the store has under a digest."""
    return storages["blobs"].size(_name(digest))


def _name(digest: str) -> str:
    return f"{digest[:2]}/{digest[2:]}"
