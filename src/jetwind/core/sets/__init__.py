"""Messages held against each other: the pieces they share, and what a member of a set has otherwise than its model."""

from jetwind.core.sets.members import Cause, Difference, Told, differences, told_once
from jetwind.core.sets.pieces import Piece, Traits, pieces_of, traits_of

__all__ = ["Cause", "Difference", "Piece", "Told", "Traits", "differences", "pieces_of", "told_once", "traits_of"]
