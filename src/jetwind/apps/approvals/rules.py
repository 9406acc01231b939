"""The rules of sign-off of a house: one for every kind of message, and one for each kind that has its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.merging import merged_fields
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking import Kind
from jetwind.core.clearing import EVERY, Rule, UnusableRule, rule_of

#: The names under which a rule may be kept.
KINDS = (EVERY, *(kind.value for kind in Kind))
#: Orders in which people sign: all at once, or one role before the other.
AT_ONCE, REVIEWERS_FIRST, APPROVERS_FIRST = "at-once", "reviewers-first", "approvers-first"


def entries_of(rule: Rule) -> dict[str, Any]:
    """A rule as the entries of its form."""
    first_approver = rule.signers.index("approver") if "approver" in rule.signers else len(rule.signers)
    first_other = next((number for number, role in enumerate(rule.signers) if role != "approver"), len(rule.signers))
    order = AT_ONCE if not rule.in_order else APPROVERS_FIRST if first_approver < first_other else REVIEWERS_FIRST
    table = rule.as_table()
    return {
        "reviewers": rule.signers.count("reviewer"),
        "either": rule.signers.count("either"),
        "approvers": rule.signers.count("approver"),
        "order": order,
        **{name: table[name] for name in ("stations", "fixes", "comments", "confirming", "seen", "days")},
    }


def rule_from(entries: Mapping[str, Any]) -> Rule:
    """The rule of the entries of a form.

    Raises:
        UnusableRule: an entry cannot be used; nobody signs.
    """
    roles = ["reviewer"] * entries["reviewers"] + ["either"] * entries["either"] + ["approver"] * entries["approvers"]
    order = entries["order"]
    same = {name: entries[name] for name in ("stations", "fixes", "comments", "confirming", "seen", "days")}
    return Rule.from_table({"signers": roles[::-1] if order == APPROVERS_FIRST else roles, "in_order": order != AT_ONCE, **same})


@transaction.atomic
def keep_rule(user: User, workspace: Workspace, kind: str, entries: Mapping[str, Any], shown: Mapping[str, Any] | None = None) -> Rule:
    """Set the rule of a kind of message. What changed against ``shown`` is merged into the rule that holds now.

    Raises:
        NotAllowed, Refused: not permitted; no such kind; an entry that cannot be used, or that somebody else changed meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    if kind not in KINDS:
        raise Refused(f"There is no kind of message “{kind[:40]}”.")
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    try:
        rule = rule_from(merged_fields(shown, entries, entries_of(rule_of(locked.clearing, kind))))
    except UnusableRule as unusable:
        raise Refused(str(unusable)) from unusable
    if locked.clearing.get(kind) != rule.as_table():
        _keep(user, locked, {**locked.clearing, kind: rule.as_table()}, f"the rule of sign-off for {_of(kind)}")
    workspace.clearing = locked.clearing
    return rule


@transaction.atomic
def drop_rule(user: User, workspace: Workspace, kind: str) -> bool:
    """Have a kind of message follow the rule of every kind again; returns whether it had one of its own.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    if kind == EVERY or kind not in locked.clearing:
        return False
    _keep(user, locked, {name: table for name, table in locked.clearing.items() if name != kind}, f"the rule of sign-off for {_of(kind)}")
    workspace.clearing = locked.clearing
    return True


def _keep(user: User, locked: Workspace, clearing: dict[str, Any], what: str) -> None:
    locked.clearing = clearing
    locked.save(update_fields=["clearing"])
    record("workspace.changed", actor=user, what=what, house=locked.pk)
    follows().sign_off_rules_changed(locked)


def _of(kind: str) -> str:
    return "every kind of message" if kind == EVERY else f"{kind} messages"
