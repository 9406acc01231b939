"""Widgets where Django's own are too slow."""

from __future__ import annotations

from typing import Any

from django import forms
from django.forms.utils import flatatt
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString, mark_safe


class LongSelect(forms.Select):
    """A list of hundreds of plain choices. Django renders a template for each of them: a tenth of a second for the time zones."""

    def render(self, name: str, value: Any, attrs: dict[str, Any] | None = None, renderer: Any = None) -> SafeString:
        """The element with its options."""
        chosen = "" if value is None else str(value)
        options = format_html_join(
            "\n",
            '<option value="{}"{}>{}</option>',
            ((key, mark_safe(" selected") if str(key) == chosen else "", label) for key, label in self.choices),
        )
        return format_html("<select{}>\n{}\n</select>", flatatt({"name": name, **self.build_attrs(self.attrs, attrs)}), options)
