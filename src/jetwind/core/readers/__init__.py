"""Sample readers from files and back, and readers made to be awkward."""

from jetwind.core.readers.as_reader import AsReader, as_reader, longest
from jetwind.core.readers.awkward import awkward_readers
from jetwind.core.readers.choosing import cover, fewest
from jetwind.core.readers.files import FORMATS, ReadersFile, UnusableReaders, read_readers, told_apart, written
from jetwind.core.readers.masking import masked

__all__ = [
    "FORMATS",
    "AsReader",
    "ReadersFile",
    "UnusableReaders",
    "as_reader",
    "awkward_readers",
    "cover",
    "fewest",
    "longest",
    "masked",
    "read_readers",
    "told_apart",
    "written",
]
