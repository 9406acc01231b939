"""The output that every command shares: places, refusals, and the report. Nothing of the core is loaded for it."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NoReturn

import click

#: The same as ``core.checking.Kind``, which would load the core.
KINDS = ("promotional", "newsletter", "transactional")

_stages: list[str] = []


@contextmanager
def stage(name: str) -> Iterator[None]:
    """The task at hand, for the line that says where Jetwind itself failed."""
    _stages.append(name)
    yield
    _stages.pop()


def at_stage() -> str:
    """The stage that did not end."""
    return _stages[-1] if _stages else "the start"


def one_line(text: str) -> str:
    """A text for a terminal: one line, no control characters."""
    return "".join(char if char.isprintable() else " " for char in " ".join(text.split()))[:400]


def refuse(sentence: str) -> NoReturn:
    """Say on standard error what could not be used and why, and leave with status 2."""
    click.echo(f"jetwind: {sentence}", err=True)
    raise click.exceptions.Exit(2)


def write_out(report: str | bytes) -> None:
    """Write a report, or the octets of a file, to standard output, whole; a full disk is said in one sentence, and nothing is left for the end to trip over."""
    try:
        if isinstance(report, bytes):
            sys.stdout.buffer.write(report)
        else:
            sys.stdout.write(report)
        sys.stdout.flush()
    except BrokenPipeError:
        raise
    except OSError as failure:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        refuse(f"the report cannot be written: {failure.strerror}.")
