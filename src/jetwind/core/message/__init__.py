"""One frozen Message out of an .eml, an HTML file, a folder or a zip, with its defects; and a message back to bytes."""

from jetwind.core.message.addresses import Mailbox
from jetwind.core.message.envelope import Envelope
from jetwind.core.message.model import (
    Defect,
    Header,
    Message,
    Resource,
    Sample,
    TextPart,
)
from jetwind.core.message.package import UnusableInput, read_bytes, read_path, with_envelope
from jetwind.core.message.references import ImageReference, image_references, is_picture_address, remote_key
from jetwind.core.message.shared import Shared
from jetwind.core.message.write import to_eml

__all__ = [
    "Defect",
    "Envelope",
    "Header",
    "ImageReference",
    "Mailbox",
    "Message",
    "Resource",
    "Sample",
    "Shared",
    "TextPart",
    "UnusableInput",
    "image_references",
    "is_picture_address",
    "read_bytes",
    "read_path",
    "remote_key",
    "to_eml",
    "with_envelope",
]
