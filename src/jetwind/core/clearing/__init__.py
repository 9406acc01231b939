"""Sign-off by rules: which signatures clear a message, what is missing, and what a signature rests on."""

from jetwind.core.clearing.resting import changes, digest_of
from jetwind.core.clearing.rule import EVERY, ROLES, SHIPPED, Confirming, Rule, Seen, Stations, UnusableRule, rule_of, sentences
from jetwind.core.clearing.stand_ins import Absence, signing_roles
from jetwind.core.clearing.standing import Facts, Missing, Signature, follows_in_order, missing, of_signatures, open_places

__all__ = [
    "EVERY",
    "ROLES",
    "SHIPPED",
    "Absence",
    "Confirming",
    "Facts",
    "Missing",
    "Rule",
    "Seen",
    "Signature",
    "Stations",
    "UnusableRule",
    "changes",
    "digest_of",
    "follows_in_order",
    "missing",
    "of_signatures",
    "open_places",
    "rule_of",
    "sentences",
    "signing_roles",
]
