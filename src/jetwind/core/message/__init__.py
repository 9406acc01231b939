"""One frozen Message out of an .eml, an HTML file, a folder or a zip, with its defects; and a message back to bytes."""

from jetwind.core.message.envelope import Envelope
from jetwind.core.message.model import (
    Defect,
    Header,
    Mailbox,
    Message,
    Resource,
    Sample,
    TextPart,
)
from jetwind.core.message.package import UnusableInput, read_bytes, read_path, with_envelope
from jetwind.core.message.plain import plain_from_html, with_plain_text
from jetwind.core.message.reading import Reading
from jetwind.core.message.references import ImageReference, image_references
from jetwind.core.message.write import compose, to_eml

__all__ = [
    "Defect",
    "Envelope",
    "Header",
    "ImageReference",
    "Mailbox",
    "Message",
    "Reading",
    "Resource",
    "Sample",
    "TextPart",
    "UnusableInput",
    "compose",
    "image_references",
    "plain_from_html",
    "read_bytes",
    "read_path",
    "to_eml",
    "with_envelope",
    "with_plain_text",
]
