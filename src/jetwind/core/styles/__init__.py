"""CSS through tinycss2: declarations with spans, and the values that decide whether something is seen."""

from jetwind.core.styles.cascade import Cascade
from jetwind.core.styles.computed import ComputedStyles, is_quirky
from jetwind.core.styles.declarations import Declaration, declarations, end_of, length_px, urls
from jetwind.core.styles.media import Medium, applies
from jetwind.core.styles.placed import PlacedDeclaration, Rule, placed_declarations, rules
from jetwind.core.styles.reading import is_too_deep

__all__ = [
    "Cascade",
    "ComputedStyles",
    "Declaration",
    "Medium",
    "PlacedDeclaration",
    "Rule",
    "applies",
    "declarations",
    "end_of",
    "is_quirky",
    "is_too_deep",
    "length_px",
    "placed_declarations",
    "rules",
    "urls",
]
