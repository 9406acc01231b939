"""The envelope of a message that arrives without mail headers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass

from jetwind.core.source.plain import read


@dataclass(frozen=True, slots=True)
class Envelope:
    """Subject, sender and so on as a person gave them. An empty string means: given as empty.

    ``subject_variants`` are further subjects for the same content, in the order in which they were given.
    """

    subject: str = ""
    sender_name: str = ""
    sender_address: str = ""
    reply_address: str = ""
    preview_text: str = ""
    subject_variants: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, object]:
        """The fields by name, as JSON takes them. Variants are left out where there are none."""
        fields = asdict(self)
        variants = list(fields.pop("subject_variants"))
        return {**fields, "subject_variants": variants} if variants else fields

    @classmethod
    def from_dict(cls, fields: Mapping[str, object]) -> Envelope:
        """The envelope that ``as_dict`` wrote.

        Raises:
            Unfit: a field is of another type.
        """
        return read(dict(fields), cls)
