"""The base of every error of Jetwind. An error that is none of these is a mistake in the program, or comes from a library."""

from __future__ import annotations


class JetwindError(Exception):
    """Something that Jetwind foresees. Its text says what is wrong, for the person who reads it."""


class Unusable(JetwindError, ValueError):
    """Something that was given cannot be used: a file, a setting, a description. The text names the thing and what is wrong with it."""


class PastBudget(JetwindError):
    """An answer costs more than its budget; the text says which limit, as the end of "cannot tell: "."""
