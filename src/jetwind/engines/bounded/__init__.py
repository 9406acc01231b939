"""Questions about a message answered in a process of its own, under limits of processor time and memory (decision 0013)."""

from jetwind.engines.bounded.arriving import is_likely_copy, judged_bounded, looks_like_mail
from jetwind.engines.bounded.composing import COMPOSING, BoundedComposer
from jetwind.engines.bounded.helper import Budget, Helper, Holder, PastBudget, Start, prepare
from jetwind.engines.bounded.lightening import (
    before_and_after_bounded,
    candidates_bounded,
    grey_copy_bounded,
    laid_over_bounded,
    lighter_bounded,
    photo_bounded,
)
from jetwind.engines.bounded.listing import listing_bounded, shown_elsewhere_bounded
from jetwind.engines.bounded.overview import OVERVIEW, overview_bounded
from jetwind.engines.bounded.readers_files import fewest_bounded, read_readers_bounded
from jetwind.engines.bounded.reviewing import CHECKING, review_bounded
from jetwind.engines.bounded.rewriting import REWRITING, BoundedRewriter

__all__ = [
    "CHECKING",
    "COMPOSING",
    "OVERVIEW",
    "REWRITING",
    "BoundedComposer",
    "BoundedRewriter",
    "Budget",
    "Helper",
    "Holder",
    "PastBudget",
    "Start",
    "before_and_after_bounded",
    "candidates_bounded",
    "fewest_bounded",
    "grey_copy_bounded",
    "is_likely_copy",
    "judged_bounded",
    "laid_over_bounded",
    "lighter_bounded",
    "listing_bounded",
    "looks_like_mail",
    "overview_bounded",
    "photo_bounded",
    "prepare",
    "read_readers_bounded",
    "review_bounded",
    "shown_elsewhere_bounded",
]
