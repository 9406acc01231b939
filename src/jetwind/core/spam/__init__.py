"""Spam risk as a sum of named reasons that can be taken apart."""

from jetwind.core.spam.declaring import GROUPS, Reason, declared
from jetwind.core.spam.total import (
    BANDS,
    OtherScore,
    SpamReason,
    SpamSum,
    band_of,
    measured_on,
    says,
    scores_of_others,
    spam_sum,
    weight_of,
)

__all__ = [
    "BANDS",
    "GROUPS",
    "OtherScore",
    "Reason",
    "SpamReason",
    "SpamSum",
    "band_of",
    "declared",
    "measured_on",
    "says",
    "scores_of_others",
    "spam_sum",
    "weight_of",
]
