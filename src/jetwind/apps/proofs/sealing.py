"""Passwords of mail servers as the database keeps them: encrypted with a key that comes from this installation's settings."""

from __future__ import annotations

import base64
from collections.abc import Iterator

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from django.conf import settings
from django.utils.encoding import force_bytes

from jetwind.core.errors import JetwindError

#: Says what the key is for, so that no other use of the same secret has the same key (RFC 5869 §3.2).
_PURPOSE = b"jetwind: passwords of mail servers"


class Unreadable(JetwindError):
    """A sealed text that the key of this installation does not open: the key was changed, or the text was."""


def seal(text: str) -> str:
    """A text, encrypted and signed (Fernet: AES-128-CBC and HMAC-SHA256) with the newest key."""
    return _keys().encrypt(text.encode()).decode("ascii")


def opened(sealed: str) -> str:
    """The text that was sealed, with the newest key or with one that the settings still name.

    Raises:
        Unreadable: no key opens it.
    """
    try:
        return _keys().decrypt(sealed.encode("ascii")).decode()
    except (InvalidToken, UnicodeEncodeError) as failure:
        raise Unreadable("the key of this installation was changed since the password was given") from failure


def _keys() -> MultiFernet:
    return MultiFernet(list(_each_key()))


def _each_key() -> Iterator[Fernet]:
    for secret in (settings.SECRET_KEY, *settings.SECRET_KEY_FALLBACKS):
        derived = HKDF(algorithm=SHA256(), length=32, salt=None, info=_PURPOSE).derive(force_bytes(secret))
        yield Fernet(base64.urlsafe_b64encode(derived))
