"""Values that are made once for a message, by typed names."""

from __future__ import annotations

from typing import Generic, TypeVar

Made = TypeVar("Made")
Made_co = TypeVar("Made_co", covariant=True)


class Shared(Generic[Made_co]):
    """The name of a value that is made once for a message, declared with the type of the value beside the function that makes it."""

    def __init__(self, name: str) -> None:
        self.name = name

    def of(self, detail: object) -> Shared[Made_co]:
        """One of several such values; ``detail`` says which, such as a digest of what it is made from."""
        return Shared(f"{self.name} {detail}")
