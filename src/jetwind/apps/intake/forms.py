"""Forms of intake."""

from __future__ import annotations

import dataclasses
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

from django import forms
from django.utils import timezone

from jetwind.apps.intake.models import KIND_CHOICES
from jetwind.apps.intake.services import Details
from jetwind.apps.ui.widgets import LongSelect
from jetwind.core.message import Envelope
from jetwind.core.source.plain import FIRST_YEAR, LAST_YEAR


class DetailsForm(forms.Form):
    """Title, kind, audience, planned time and its zone."""

    title = forms.CharField(max_length=160, required=False, label="Working title")
    kind = forms.ChoiceField(choices=KIND_CHOICES, initial="promotional")
    audience = forms.CharField(max_length=200, required=False)
    countries = forms.RegexField(
        r"\A\s*(?:[A-Za-z]{2}(?:[\s,]+|\Z))*\s*\Z",
        max_length=200,
        required=False,
        label="Countries of the audience",
        help_text="Codes of two letters, such as NL, DE; which of your own rulebooks hold depends on them.",
        error_messages={"invalid": "Codes of two letters, parted by blanks or commas, such as NL, DE."},
    )
    planned = forms.DateTimeField(
        required=False, label="Planned for", widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M")
    )
    planned_zone = forms.ChoiceField(
        label="In the time zone", choices=[(name, name) for name in sorted(available_timezones())], initial="UTC", widget=LongSelect
    )

    local_time = forms.BooleanField(required=False, label="At that hour of each reader's own zone")

    def clean(self) -> dict[str, Any]:
        """Read the planned time in the zone that is given beside it."""
        found = super().clean() or {}
        planned, zone = found.get("planned"), found.get("planned_zone")
        if planned and zone:
            if not FIRST_YEAR < planned.year < LAST_YEAR:
                self.add_error("planned", f"Give a time of the years {FIRST_YEAR + 1} to {LAST_YEAR - 1}.")
                return found
            naive = timezone.make_naive(planned, timezone.get_current_timezone())
            found["planned"] = naive.replace(tzinfo=ZoneInfo(zone))
        return found

    def details(self) -> Details:
        """The values for the service."""
        data = self.cleaned_data
        return Details(
            data["title"].strip(),
            data["kind"],
            audience=data["audience"].strip(),
            planned_at=data.get("planned"),
            planned_zone=data["planned_zone"],
            local_time=data["local_time"],
            countries=tuple(sorted(set(data["countries"].upper().replace(",", " ").split()))),
        )


class EnvelopeForm(forms.Form):
    """Subject, sender, reply address and preview text of a message without headers of its own."""

    subject = forms.CharField(max_length=500, required=False)
    sender_name = forms.CharField(max_length=120, required=False)
    sender_address = forms.CharField(max_length=254, required=False)
    reply_address = forms.CharField(max_length=254, required=False)
    preview_text = forms.CharField(max_length=300, required=False)
    subject_variants = forms.CharField(
        required=False,
        max_length=5000,
        label="Further subjects, one on each line",
        widget=forms.Textarea(attrs={"rows": 3}),
    )

    def envelope(self) -> Envelope:
        """The values for the service."""
        data = self.cleaned_data
        single = {field.name: data[field.name].strip() for field in dataclasses.fields(Envelope) if field.name != "subject_variants"}
        return Envelope(**single, subject_variants=tuple(line.strip() for line in data["subject_variants"].splitlines() if line.strip()))


class PasteForm(DetailsForm, EnvelopeForm):
    """Pasted source with everything that goes with it."""

    source = forms.CharField(widget=forms.Textarea(attrs={"rows": 14, "spellcheck": "false", "class": "source"}), strip=False)
    field_order = [
        "source",
        "subject",
        "sender_name",
        "sender_address",
        "reply_address",
        "preview_text",
        "subject_variants",
        "title",
        "kind",
        "audience",
        "countries",
        "planned",
        "planned_zone",
        "local_time",
    ]
