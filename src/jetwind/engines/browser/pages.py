"""The browser's own store of a page between two pictures, and of one message while its pictures are taken."""

from __future__ import annotations

from dataclasses import dataclass

from jetwind.engines.browser.proxy import PartsProxy


@dataclass(slots=True)
class Page:
    """A kept page: the context and the target that are ended with it, its session and its frame, its own way out.

    ``left_behind`` is what the message in it leaves behind; ``fetched`` stands for what it has been given under addresses on servers, which
    it may keep. ``is_worn`` says that it keeps much memory since a large picture was taken of it.
    """

    context: str
    session: str
    frame: str
    proxy: PartsProxy
    left_behind: str = ""
    fetched: str | None = None
    is_worn: bool = False


@dataclass(eq=False)
class OneMessage:
    """The pictures that are taken of one message: until when, how many have come, and why no more are tried.

    ``at_work`` counts its pages that are laid out now.
    """

    deadline: float
    laid_out: int = 0
    at_work: int = 0
    given_up: str = ""
    given_up_for_time: bool = False
