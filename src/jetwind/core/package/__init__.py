"""The package that leaves: a zip of files with their checksums and a signature, written and verified without anything else of Jetwind."""

from jetwind.core.package.keys import PublicKey, UnusableKey, as_pem, fingerprint_of, new_private_key, public_half, public_key_of
from jetwind.core.package.verifying import Told, Verified, verify
from jetwind.core.package.writing import CHECKSUMS, KEY, SIGNATURE, package_of, safe_name

__all__ = [
    "CHECKSUMS",
    "KEY",
    "SIGNATURE",
    "PublicKey",
    "Told",
    "UnusableKey",
    "Verified",
    "as_pem",
    "fingerprint_of",
    "new_private_key",
    "package_of",
    "public_half",
    "public_key_of",
    "safe_name",
    "verify",
]
