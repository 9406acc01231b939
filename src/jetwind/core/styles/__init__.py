"""CSS through tinycss2: declarations with spans, and the values that decide whether something is seen."""

from jetwind.core.styles.cascade import Cascade
from jetwind.core.styles.declarations import Declaration, declarations, length_px, urls

__all__ = ["Cascade", "Declaration", "declarations", "length_px", "urls"]
