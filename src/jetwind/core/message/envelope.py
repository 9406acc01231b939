"""What stands around the content of a message that arrives without mail headers."""

from __future__ import annotations

from dataclasses import asdict, dataclass


@dataclass(frozen=True, slots=True)
class Envelope:
    """Subject, sender and so on as a person gave them. An empty string means: given as empty."""

    subject: str = ""
    sender_name: str = ""
    sender_address: str = ""
    reply_address: str = ""
    preview_text: str = ""

    def as_dict(self) -> dict[str, str]:
        """The fields by name."""
        return asdict(self)
