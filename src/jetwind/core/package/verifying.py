"""Verifying a package, octet by octet: every file against its checksum, the list against its signature, and the zip against its files."""

from __future__ import annotations

import hashlib
import io
import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass

from cryptography.exceptions import InvalidSignature

from jetwind.core.package.keys import PublicKey, UnusableKey, fingerprint_of, public_key_of
from jetwind.core.package.writing import CHECKSUMS, KEY, SIGNATURE, zipped

#: Octets of a package, and files in it, beyond which nothing is verified.
LARGEST, MOST_FILES = 400_000_000, 5_000
_LINE = re.compile(rb"([0-9a-f]{64})  ([A-Za-z0-9._/-]{1,200})\Z")
#: What the octets of a zip are called that belong to no file.
DIRECTORY = "the directory of the zip"


@dataclass(frozen=True, slots=True)
class Told:
    """The verdict on one thing in a package: the name, whether the thing holds, and the reason where it does not."""

    name: str
    holds: bool
    words: str = ""


@dataclass(frozen=True, slots=True)
class Verified:
    """Everything that was verified. ``fingerprint`` is that of the key that the signature was verified with; empty where there is none."""

    told: tuple[Told, ...]
    fingerprint: str

    @property
    def holds(self) -> bool:
        """Whether everything does."""
        return bool(self.told) and all(one.holds for one in self.told)


def verify(data: bytes, key: PublicKey | None = None) -> Verified:
    """What of a package holds, and what does not. Without a ``key`` the one inside is used: then it is for a person to say whose it is.

    Never raises for anything that ``data`` holds.
    """
    if len(data) > LARGEST:
        return _only("the package", f"It has {len(data):,} octets; more than {LARGEST:,} are not verified.")
    try:
        files, unread = _files(data)
    except _NotRead as wrong:
        return _only(wrong.name, wrong.words)
    told = list(unread)
    listed, bad_lines = _listed(files.get(CHECKSUMS, b""))
    told += bad_lines
    told += _against_the_list(files, listed, {one.name for one in unread})
    used, about_keys = _key_for(files, key)
    told += about_keys
    if used is not None:
        told.append(_signature(files, used))
    if all(one.holds for one in told) and (changed := _first_change(data, {name: files[name] for name in (*listed, CHECKSUMS, SIGNATURE)})):
        told.append(Told(changed, holds=False, words="Its place in the zip is not as it was written."))
    return Verified(tuple(told), fingerprint_of(used) if used is not None else "")


class _NotRead(Exception):
    def __init__(self, name: str, words: str) -> None:
        super().__init__(words)
        self.name, self.words = name, words


def _only(name: str, words: str) -> Verified:
    return Verified((Told(name, holds=False, words=words),), "")


def _files(data: bytes) -> tuple[dict[str, bytes], list[Told]]:
    """Read the files of a zip by their names, and give a verdict on each file that cannot be read."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        entries = archive.infolist()
    except Exception as wrong:  # the library raises many kinds for broken zips, not all of them documented
        raise _NotRead(DIRECTORY, "It cannot be read: this is no zip, or a broken one.") from wrong
    if len(entries) > MOST_FILES:
        raise _NotRead(DIRECTORY, f"It has {len(entries):,} files; more than {MOST_FILES:,} are not verified.")
    files: dict[str, bytes] = {}
    unread = []
    for entry in entries:
        shown = _shown(entry.filename)
        if entry.filename in files:
            raise _NotRead(shown, "It stands in the zip twice.")
        if entry.compress_type != zipfile.ZIP_STORED or entry.file_size != entry.compress_size or entry.file_size > len(data):
            unread.append(Told(shown, holds=False, words="It is not stored as Jetwind stores files."))
            continue
        try:
            files[entry.filename] = archive.read(entry)
        except Exception:  # likewise
            unread.append(Told(shown, holds=False, words="It cannot be read: its octets are not those that were written."))
    return files, unread


def _listed(sums: bytes) -> tuple[dict[str, str], list[Told]]:
    """The checksums of the list by the names of the files, and the lines that are none."""
    if not sums:
        return {}, [Told(CHECKSUMS, holds=False, words="The list of checksums is not there.")]
    listed: dict[str, str] = {}
    for number, line in enumerate(sums.removesuffix(b"\n").split(b"\n"), 1):
        found = _LINE.match(line)
        if found is None or found[2].decode("ascii") in listed:
            return listed, [Told(CHECKSUMS, holds=False, words=f"Line {number} is no checksum of a file.")]
        listed[found[2].decode("ascii")] = found[1].decode("ascii")
    return listed, []


def _against_the_list(files: dict[str, bytes], listed: dict[str, str], unread: set[str]) -> Iterator[Told]:
    for name, digest in listed.items():
        if name in files:
            is_same = hashlib.sha256(files[name]).hexdigest() == digest
            yield Told(name, is_same, "" if is_same else "Its octets are not those of the list of checksums.")
        elif name not in unread:
            yield Told(name, holds=False, words="It is in the list of checksums, and not in the package.")
    for name in files:
        if name not in listed and name not in (CHECKSUMS, SIGNATURE):
            yield Told(_shown(name), holds=False, words="It is in the package, and not in the list of checksums.")


def _key_for(files: dict[str, bytes], key: PublicKey | None) -> tuple[PublicKey | None, list[Told]]:
    """Choose the key to verify with, and give a verdict on the key inside the package."""
    try:
        inside = public_key_of(files.get(KEY, b""))
    except UnusableKey as wrong:
        return key, [Told(KEY, holds=False, words=f"{wrong}")]
    if key is not None and fingerprint_of(key) != fingerprint_of(inside):
        return key, [Told(KEY, holds=False, words=f"The package brings another key, {fingerprint_of(inside)}.")]
    return key or inside, []


def _signature(files: dict[str, bytes], key: PublicKey) -> Told:
    if SIGNATURE not in files:
        return Told(SIGNATURE, holds=False, words="The signature is not there.")
    try:
        key.verify(files[SIGNATURE], files.get(CHECKSUMS, b""))
    except InvalidSignature:
        return Told(SIGNATURE, holds=False, words=f"It is not the signature of {CHECKSUMS} with this key.")
    return Told(CHECKSUMS, holds=True)


def _first_change(data: bytes, files: dict[str, bytes]) -> str:
    """Where a zip first differs from the one that these files make: the name of the file, or the directory; empty where it does not."""
    written = zipped(list(files.items()))
    if written == data:
        return ""
    at = next(
        (number for number, (one, other) in enumerate(zip(data, written, strict=False)) if one != other), min(len(data), len(written))
    )
    with zipfile.ZipFile(io.BytesIO(written)) as archive:
        begins = [(entry.header_offset, entry.filename) for entry in archive.infolist()]
        directory = archive.start_dir
    if at >= directory:
        return DIRECTORY
    return next((name for offset, name in reversed(begins) if offset <= at), DIRECTORY)


def _shown(name: str) -> str:
    """A name of a file as it may be printed."""
    return "".join(char if char.isprintable() else "�" for char in name)[:200]
