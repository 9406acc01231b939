"""Keys of packages: Ed25519 (RFC 8032), in PEM (RFC 8410: PKCS #8 and SubjectPublicKeyInfo)."""

from __future__ import annotations

import hashlib

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
    load_pem_public_key,
)

from jetwind.core.errors import Unusable

PublicKey = Ed25519PublicKey


class UnusableKey(Unusable):
    """A text that is no Ed25519 key in PEM."""


def new_private_key() -> str:
    """A new private key, in PEM."""
    made = Ed25519PrivateKey.generate()
    return made.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode("ascii")


def private_key_of(pem: str) -> Ed25519PrivateKey:
    """The private key of a PEM text.

    Raises:
        UnusableKey: it is none.
    """
    try:
        key = load_pem_private_key(pem.encode(), None)
    except (ValueError, TypeError, UnsupportedAlgorithm) as wrong:
        raise UnusableKey("This is no private key in PEM.") from wrong
    if not isinstance(key, Ed25519PrivateKey):
        raise UnusableKey("This is no Ed25519 key.")
    return key


def public_key_of(pem: bytes) -> Ed25519PublicKey:
    """The public key of a PEM file.

    Raises:
        UnusableKey: it is none.
    """
    # The library would find a key in the middle of any file, such as a package.
    if not pem.lstrip().startswith(b"-----BEGIN PUBLIC KEY-----"):
        raise UnusableKey("This is no public key in PEM.")
    try:
        key = load_pem_public_key(pem)
    except (ValueError, UnsupportedAlgorithm) as wrong:
        raise UnusableKey("This is no public key in PEM.") from wrong
    if not isinstance(key, Ed25519PublicKey):
        raise UnusableKey("This is no Ed25519 key.")
    return key


def public_half(private_pem: str) -> str:
    """The public half of a private key, both in PEM.

    Raises:
        UnusableKey: this is no private key.
    """
    return as_pem(private_key_of(private_pem).public_key())


def as_pem(key: Ed25519PublicKey) -> str:
    """A public key in PEM."""
    return key.public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo).decode("ascii")


def fingerprint_of(key: Ed25519PublicKey) -> str:
    """SHA-256 in hexadecimal digits over the 32 octets of a public key: what people compare."""
    return hashlib.sha256(key.public_bytes(Encoding.Raw, PublicFormat.Raw)).hexdigest()
