"""The blob store: bytes by their SHA-256. The same bytes are kept once, and what is kept never changes."""

from __future__ import annotations

import hashlib

from django.core.files.base import ContentFile
from django.core.files.storage import storages


class BlobMissing(Exception):
    """The store has no bytes under this digest: its folder was changed by hand or not restored."""


def keep(data: bytes) -> str:
    """Store bytes and return their SHA-256, hexadecimal."""
    digest = hashlib.sha256(data).hexdigest()
    store = storages["blobs"]
    if not store.exists(_name(digest)):
        store.save(_name(digest), ContentFile(data))
    return digest


def fetch(digest: str) -> bytes:
    """The bytes of a digest.

    Raises:
        BlobMissing: nothing is stored under it.
    """
    try:
        with storages["blobs"].open(_name(digest)) as file:
            data: bytes = file.read()
            return data
    except FileNotFoundError:
        raise BlobMissing(digest) from None


def _name(digest: str) -> str:
    return f"{digest[:2]}/{digest[2:]}"
