"""Forms of sign-off."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from django import forms

from jetwind.apps.accounts.models import User
from jetwind.apps.approvals.rules import APPROVERS_FIRST, AT_ONCE, REVIEWERS_FIRST
from jetwind.core.clearing import Confirming, Seen, Stations
from jetwind.core.clearing.rule import MOST_DAYS, MOST_SIGNERS


class RuleForm(forms.Form):
    """The entries of a rule of sign-off."""

    reviewers = forms.IntegerField(min_value=0, max_value=MOST_SIGNERS, label="Signatures by a reviewer")
    approvers = forms.IntegerField(min_value=0, max_value=MOST_SIGNERS, label="Signatures by an approver")
    either = forms.IntegerField(
        min_value=0, max_value=MOST_SIGNERS, label="Signatures by either", help_text="A reviewer or an approver, besides those above."
    )
    order = forms.ChoiceField(
        choices=[
            (AT_ONCE, "in any order"),
            (REVIEWERS_FIRST, "reviewers before approvers"),
            (APPROVERS_FIRST, "approvers before reviewers"),
        ],
        label="They sign",
    )
    stations = forms.ChoiceField(
        choices=[
            (Stations.LEFT_OUT.value, "looked at, or left out with a reason"),
            (Stations.LOOKED.value, "looked at"),
            (Stations.FREE.value, "looked at or not"),
        ],
        label="Before that, each station is",
    )
    fixes = forms.BooleanField(required=False, label="Fixes may be open")
    comments = forms.BooleanField(required=False, label="Comments may be open")
    confirming = forms.ChoiceField(
        choices=[
            (Confirming.NOBODY.value, "no excuse"),
            (Confirming.REVIEWERS.value, "each excuse that no approver made"),
            (Confirming.EVERYBODY.value, "each excuse"),
        ],
        label="A second person confirms",
    )
    seen = forms.ChoiceField(
        choices=[
            (Seen.UNASKED.value, "does not have to"),
            (Seen.ANYWHERE.value, "on any device"),
            (Seen.PHONE.value, "on a phone"),
        ],
        label="A recipient of a test send finds the message right",
    )
    days = forms.IntegerField(
        min_value=1,
        max_value=MOST_DAYS,
        required=False,
        label="Days for which a signature holds",
        help_text="Empty for as long as nothing changes.",
    )


class StandInForm(forms.Form):
    """Who is away, who signs meanwhile, and on which days."""

    away = forms.ModelChoiceField(User.objects.none(), label="Who is away", empty_label=None)
    stands_in = forms.ModelChoiceField(User.objects.none(), label="Who signs meanwhile", empty_label=None)
    since = forms.DateField(label="From", widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"))
    until = forms.DateField(label="Until, with this day", widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"))

    def __init__(self, *args: Any, away: Iterable[int], stand_ins: Iterable[int], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name, people in (("away", away), ("stands_in", stand_ins)):
            field = self.fields[name]
            assert isinstance(field, forms.ModelChoiceField)
            field.queryset = User.objects.filter(pk__in=list(people)).order_by("first_name", "username")
            field.label_from_instance = lambda person: person.shown_name  # type: ignore[method-assign, assignment]
