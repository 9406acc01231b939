"""Reading words in pictures, behind what the core declares of it in ``images.words``."""

from jetwind.engines.picture_words.fake import FakeReader
from jetwind.engines.picture_words.reading import ALL_SECONDS, read_each, to_read
from jetwind.engines.picture_words.tesseract import Tesseract, installed

__all__ = ["ALL_SECONDS", "FakeReader", "Tesseract", "installed", "read_each", "to_read"]
