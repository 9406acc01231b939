"""Spam risk as a sum of named reasons that can be taken apart."""

from jetwind.core.spam.total import BANDS, SpamReason, SpamSum, spam_sum

__all__ = ["BANDS", "SpamReason", "SpamSum", "spam_sum"]
