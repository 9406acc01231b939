"""Widgets where Django's own are too slow."""

from __future__ import annotations

from typing import Any

from django import forms
from django.forms.utils import flatatt
from django.utils.safestring import SafeString

from jetwind.apps.ui.many import many


class LongSelect(forms.Select):
    """A list of hundreds of plain choices. Django renders a template for each of them: a tenth of a second for the time zones."""

    def render(self, name: str, value: Any, attrs: dict[str, Any] | None = None, renderer: Any = None) -> SafeString:
        """The element with its options."""
        attributes = flatatt({"name": name, **self.build_attrs(self.attrs, attrs)})
        choices = [(str(key), label) for key, label in self.choices]
        return many("ui/long_select.html", attributes=attributes, choices=choices, chosen="" if value is None else str(value))
