"""Mended copies: which changes of its source a message is offered, the octets with them, and the proof that they harm nothing."""

from jetwind.core.mending.difference import as_patch, as_patches
from jetwind.core.mending.looks import strays
from jetwind.core.mending.octets import CannotMend, Piece, files_of, pieces_of, with_changes
from jetwind.core.mending.offers import Offer, Withheld, kinds_of, offers_of
from jetwind.core.mending.proof import Before, Mended, mended, worse
from jetwind.core.mending.shown import ShownChange, shown_of

__all__ = [
    "Before",
    "CannotMend",
    "Mended",
    "Offer",
    "Piece",
    "ShownChange",
    "Withheld",
    "as_patch",
    "as_patches",
    "files_of",
    "kinds_of",
    "mended",
    "offers_of",
    "pieces_of",
    "shown_of",
    "strays",
    "with_changes",
    "worse",
]
