"""Writing a package. The same files and the same key give the same octets, on every machine and at every time."""

from __future__ import annotations

import hashlib
import io
import re
import zipfile
from collections.abc import Collection, Sequence

from jetwind.core.package.keys import as_pem, private_key_of

#: The list of checksums, in the form that ``sha256sum --check`` of the GNU core utilities reads; its detached signature; the public key.
CHECKSUMS, SIGNATURE, KEY = "SHA256SUMS", "SHA256SUMS.sig", "key.pem"
_UNSAFE = re.compile(r"[^A-Za-z0-9._-]+")
#: Characters of a name of a file.
_LONGEST = 80

Files = Sequence[tuple[str, bytes]]


def package_of(files: Files, private_pem: str) -> bytes:
    """The octets of a package: the files in their order, then the public key, the checksums of all of these, and the signature of the list.

    Names are unique, and as :func:`safe_name` gives them, with folders before a ``/``.

    Raises:
        ValueError: two files have one name, or a name is not safe.
        UnusableKey: this is no private key.
    """
    key = private_key_of(private_pem)
    all_files = [*files, (KEY, as_pem(key.public_key()).encode("ascii"))]
    names = [name for name, _ in all_files]
    if len(set(names)) < len(names) or any(name in (CHECKSUMS, SIGNATURE) or not is_safe(name) for name in names):
        raise ValueError("each file of a package has a safe name of its own")
    sums = "".join(f"{hashlib.sha256(data).hexdigest()}  {name}\n" for name, data in all_files).encode("ascii")
    return zipped([*all_files, (CHECKSUMS, sums), (SIGNATURE, key.sign(sums))])


def zipped(files: Files) -> bytes:
    """The files as a zip that says nothing but their names and octets: stored, all of one date, so that every octet can be foretold."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for name, data in files:
            entry = zipfile.ZipInfo(name, date_time=(1980, 1, 1, 0, 0, 0))
            entry.create_system, entry.external_attr = 3, 0o100644 << 16
            archive.writestr(entry, data)
    return out.getvalue()


def is_safe(name: str) -> bool:
    """Whether each folder and the name itself is as :func:`safe_name` gives it."""
    return all(part and part == safe_name(part) for part in name.split("/"))


def safe_name(name: str, taken: Collection[str] = ()) -> str:
    """A name for a file that no file system and no tool reads otherwise: of ASCII letters, digits and ``._-``, unlike those taken."""
    plain = _UNSAFE.sub("-", name).strip(".-") or "file"
    stem, dot, suffix = plain.rpartition(".")
    stem, suffix = (stem, suffix[:10]) if dot and stem else (plain, "")
    stem = stem[: _LONGEST - 16]
    made, number = stem + (f".{suffix}" if suffix else ""), 1
    while made.casefold() in {one.casefold() for one in taken}:
        number += 1
        made = f"{stem}-{number}" + (f".{suffix}" if suffix else "")
    return made
