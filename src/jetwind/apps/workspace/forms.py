"""Forms of the house."""

from __future__ import annotations

from typing import Any

from django import forms

from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.core.checking import rulebooks


class ReaderForm(forms.ModelForm):
    """A sample reader with one input for each field of the field list."""

    class Meta:
        model = SampleReader
        fields = ["name", "email", "time_zone", "remark"]

    def __init__(self, *args: Any, workspace: Workspace, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._fields = list(workspace.field_list)
        for name in self._fields:
            self.fields[f"value-{name}"] = forms.CharField(
                max_length=300, required=False, label=name, initial=self.instance.values.get(name, ""), strip=False
            )

    def save(self, commit: bool = True) -> SampleReader:
        """The reader with its values; the service saves it."""
        reader = super().save(commit=False)
        reader.values = {**reader.values, **{name: self.cleaned_data[f"value-{name}"] for name in self._fields}}
        return reader


class SettingsForm(forms.Form):
    """The house's lists."""

    @staticmethod
    def initial_of(workspace: Workspace) -> dict[str, Any]:
        """What stands in the fields of a form that nobody has filled in."""
        lists = ("field_list", "practice_domains", "test_domains", "word_list")
        kept = {name: " ".join(getattr(workspace, name)) for name in lists}
        return kept | {"sign_offs_required": workspace.sign_offs_required, "rulebooks": workspace.rulebooks}

    field_list = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 3}),
        required=False,
        label="Field list",
        help_text="Names of the fields that the sending system fills.",
    )
    practice_domains = forms.CharField(
        required=False,
        label="Practice domains",
        help_text="Invented domains that stand for real ones, and are not reported as stand-in addresses.",
    )
    test_domains = forms.CharField(
        required=False, label="Test domains", help_text="Test sends reach addresses of these domains and no others."
    )
    word_list = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 3}),
        required=False,
        label="Word list",
        help_text="Words that the spelling check takes for right: terms of the house, names of things.",
    )
    rulebooks = forms.MultipleChoiceField(
        choices=[(book.id, f"{book.name} ({book.basis})") for book in rulebooks().values()],
        widget=forms.CheckboxSelectMultiple,
        required=False,
        label="Rulebooks that apply",
        help_text="With none chosen, every demand of every rulebook is checked.",
    )
    sign_offs_required = forms.IntegerField(
        min_value=1,
        max_value=9,
        label="Sign-offs to clear a message",
        help_text="One of them comes from an approver, none from whoever uploaded a revision.",
    )
