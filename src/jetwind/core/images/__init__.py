"""Pictures: what the file itself says, and how large it is shown."""

from jetwind.core.images.measure import ImageFacts, measure
from jetwind.core.images.shown import is_spacer, shown_size

__all__ = ["ImageFacts", "is_spacer", "measure", "shown_size"]
