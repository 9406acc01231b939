"""Markup for rows by the hundred, where a template or :func:`django.utils.html.format_html` would take most of a page's time."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape

from django.utils.safestring import SafeString


def filled(pattern: str, *values: object) -> str:
    """A pattern with each ``{}`` filled by a value, all of which are escaped: none is taken for markup."""
    return pattern.format(*(escape(str(value)) for value in values))


def joined(pieces: Iterable[str]) -> SafeString:
    """Pieces that :func:`filled` made, as markup."""
    return SafeString("".join(pieces))
