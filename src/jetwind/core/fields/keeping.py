"""Texts in the form in which they are filled, kept since a text is filled for reader after reader; few of the large ones, which take room."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache, wraps
from typing import Concatenate, ParamSpec, TypeVar

Rest = ParamSpec("Rest")
Form = TypeVar("Form")

#: Characters of a text that is kept among many, and of one that is kept among two.
SMALL, LARGE = 200_000, 3_000_000


def kept(make: Callable[Concatenate[str, Rest], Form]) -> Callable[Concatenate[str, Rest], Form]:
    """Around a function of a text: the forms of the sixteen small texts and the two large ones that were asked for last are kept."""
    small, large = lru_cache(maxsize=16)(make), lru_cache(maxsize=2)(make)

    @wraps(make)
    def form_of(source: str, *args: Rest.args, **kwargs: Rest.kwargs) -> Form:
        if len(source) > LARGE:
            return make(source, *args, **kwargs)
        return (small if len(source) <= SMALL else large)(source, *args, **kwargs)  # type: ignore[arg-type]

    return form_of  # type: ignore[return-value]
