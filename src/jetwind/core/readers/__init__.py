"""Sample readers from files and back, and readers made to be awkward."""

from jetwind.core.readers.awkward import awkward_readers
from jetwind.core.readers.choosing import fewest
from jetwind.core.readers.files import FORMATS, ReadersFile, UnusableReaders, read_readers, written
from jetwind.core.readers.masking import masked

__all__ = ["FORMATS", "ReadersFile", "UnusableReaders", "awkward_readers", "fewest", "masked", "read_readers", "written"]
