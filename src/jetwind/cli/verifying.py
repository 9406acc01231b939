"""Verifying what Jetwind wrote, without a database: the log, and the package of a released message."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TextIO

import click

from jetwind.cli.telling import one_line, refuse, stage


@click.command("verify-log")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--newest", help="The newest hash, as a package or another file has it: nothing may be missing at the end.")
@click.option("--selection", is_flag=True, help="The file is a part of the log: entries may be missing between its lines.")
def verify_log(file: Path, newest: str | None, selection: bool) -> None:
    """Verify FILE, the log as JSON Lines, without a database: each entry has its hash and follows from the one before.

    Exit status 0: it holds; 1: it does not; 2: the file cannot be read.
    """
    from jetwind.core.log import verify_lines

    try:
        with stage(f"verifying “{file}”"), file.open(encoding="utf-8", errors="replace") as lines:
            found = verify_lines(_bounded_lines(lines), is_selection=selection)
    except OSError as failure:
        refuse(f"“{file}” cannot be read: {failure.strerror}.")
    wrong = found.wrong
    if not wrong and newest is not None and found.newest != newest.strip().lower():
        wrong = f"The newest hash in the file is {found.newest}, not {newest.strip().lower()[:80]}."
    if wrong:
        click.echo(f"The log does not hold. {one_line(wrong)}")
        raise click.exceptions.Exit(1)
    entries = "1 entry holds" if found.entries == 1 else f"{found.entries:,} entries hold"
    click.echo(f"{entries}. The newest hash is {found.newest}.")
    if found.alone:
        click.echo(f"Of {found.alone:,} only their own hash speaks: the file does not have the entry before.")


@click.command("verify")
@click.argument("file", metavar="PACKAGE", type=click.Path(path_type=Path))
@click.option(
    "--key",
    type=click.Path(path_type=Path),
    help="The public key to verify with, as Settings shows it; without it, the one in the package.",
)
def verify(file: Path, key: Path | None) -> None:
    """Verify PACKAGE, octet by octet, without a database: each file, the list of checksums, its signature, and the zip itself.

    Exit status 0: it holds; 1: it does not; 2: a file cannot be read.
    """
    from jetwind.core.package import UnusableKey, public_key_of
    from jetwind.core.package import verify as verified_package
    from jetwind.core.package.verifying import LARGEST

    try:
        with stage(f"verifying “{file}”"):
            given = public_key_of(key.read_bytes()) if key is not None else None
            with file.open("rb") as opened:
                found = verified_package(opened.read(LARGEST + 1), given)
    except UnusableKey as wrong:
        refuse(f"“{key}” cannot be used: {wrong}")
    except OSError as failure:
        refuse(f"“{failure.filename or file}” cannot be read: {failure.strerror}.")
    for one in found.told:
        click.echo(f"{'holds' if one.holds else 'DOES NOT HOLD'}  {one_line(one.name)}" + (f": {one_line(one.words)}" if one.words else ""))
    if not found.holds:
        click.echo("The package does not hold.")
        raise click.exceptions.Exit(1)
    whose = "the key that you gave" if key is not None else "the key in the package; compare it with the one of the workspace's Settings"
    click.echo(f"The package holds. It is signed with {whose}: {found.fingerprint}")


def _bounded_lines(file: TextIO) -> Iterator[str]:
    """The lines of a file; a line that is too long for an entry comes in pieces, which are none."""
    from jetwind.core.log.chain import LONGEST_LINE

    while line := file.readline(LONGEST_LINE + 1):
        yield line
