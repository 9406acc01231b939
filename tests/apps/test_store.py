"""The blob store: what is read is what was kept, a broken file is mended, and a walk tells of everything."""

from __future__ import annotations

import io
import threading
from pathlib import Path
from typing import Any

import pytest
from django.core.files.base import ContentFile
from django.core.files.storage import storages
from django.core.management import CommandError, call_command

from jetwind.apps.blobs import store
from jetwind.apps.blobs.storage import WholeFiles
from jetwind.apps.intake import selectors
from tests.apps.helpers import taken_in


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A store of the test's own."""
    made = WholeFiles(location=tmp_path, file_permissions_mode=0o600, directory_permissions_mode=0o700)
    monkeypatch.setitem(storages._storages, "blobs", made)  # type: ignore[attr-defined]
    return tmp_path


def file_of(folder: Path, digest: str) -> Path:
    """Where the octets of a digest lie."""
    return folder / digest[:2] / digest[2:]


def verified() -> str:
    """What the walk says; with the error at its end where there is one."""
    out = io.StringIO()
    try:
        call_command("verify_store", stdout=out)
    except CommandError as told:
        out.write(str(told))
    return out.getvalue()


def test_kept_and_read(folder: Path) -> None:
    """For the people of the house alone, with nothing else left behind."""
    digest = store.keep(b"glaze")
    assert store.fetch(digest) == b"glaze" and store.keep(b"glaze") == digest
    assert [path for path in folder.rglob("*") if path.is_file()] == [file_of(folder, digest)]
    assert (file_of(folder, digest).stat().st_mode & 0o777, file_of(folder, digest).parent.stat().st_mode & 0o777) == (0o600, 0o700)
    with pytest.raises(store.BlobMissing, match="is not in the store any more"):
        store.fetch("0" * 64)


@pytest.mark.parametrize("octets", [b"", b"glaz", b"glazd", b"glaze and more"])
def test_a_broken_file(folder: Path, octets: bytes) -> None:
    """Shorter, longer or of the same length: it is never taken for what was kept, and keeping the right octets again mends it."""
    digest = store.keep(b"glaze")
    file_of(folder, digest).write_bytes(octets)
    with pytest.raises(store.BlobBroken, match="is broken in the store"):
        store.fetch(digest)
    assert store.keep(b"glaze") == digest and store.fetch(digest) == b"glaze"


def test_a_reader_finds_a_whole_file_or_none(folder: Path) -> None:
    """While several write the same, nobody reads a part of it."""
    data = b"glaze" * 400_000
    digest = store.keep(data)
    stop = threading.Event()

    def write() -> None:
        while not stop.is_set():
            storages["blobs"].save(f"{digest[:2]}/{digest[2:]}", ContentFile(data))

    writers = [threading.Thread(target=write) for _ in range(3)]
    for writer in writers:
        writer.start()
    for _ in range(100):
        assert store.fetch(digest) == data
    stop.set()
    for writer in writers:
        writer.join()
    assert [path for path in folder.rglob("*") if path.is_file()] == [file_of(folder, digest)]


def test_a_write_that_fails_leaves_nothing(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The disk is full: no half of a file, under no name."""

    def full(number: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(OSError, match="No space left"):
        store.keep(b"glaze")
    assert not [path for path in folder.rglob("*") if path.is_file()]


@pytest.mark.django_db
class TestVerifying:
    """Everything is read."""

    def test_whole(self, house: Any, folder: Path) -> None:
        """Files that nothing names are counted and are no fault."""
        taken_in(house)
        store.keep(b"nobody's")
        said = verified()
        assert "The store is whole" in said and "1 files are named by nothing" in said

    def test_broken_and_missing(self, house: Any, folder: Path) -> None:
        """Each is named with whose it is, and the command ends with an error; a page of such a message says so in a sentence."""
        one, two = taken_in(house), taken_in(house, b"Subject: x\n\nword\n")
        other = store.keep(b"nobody's")
        file_of(folder, one.source_sha256).write_bytes(b"x")
        file_of(folder, two.source_sha256).unlink()
        file_of(folder, other).write_bytes(b"y")
        said = verified()
        assert f"broken: {one.source_sha256}, of revision {one.pk}" in said
        assert f"missing: {two.source_sha256}, of revision {two.pk}" in said
        assert f"broken: {other}, which nothing names" in said
        assert "3 places are named above" in said
        selectors._parsed.cache_clear()
        page = house.client(house.reviewer).get(f"/mailings/{one.mailing_id}/r1/envelope/")
        assert page.status_code == 409 and "is broken in the store" in page.content.decode()
