"""Values that leave behind what was worked out from them when they go to another process."""

from __future__ import annotations

from dataclasses import fields


class WithoutCaches:
    """A data class that is pickled as its fields alone: its cached properties, such as a tree, are made again where they are asked for."""

    def __getstate__(self) -> dict[str, object]:
        return {own.name: getattr(self, own.name) for own in fields(self)}  # type: ignore[arg-type]
