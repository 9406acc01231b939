"""Forms of the house."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from django import forms

from jetwind.apps.workspace.models import FieldSyntax, SampleReader, Workspace
from jetwind.core.checking import HOUSE_DEMANDS, Kind, rulebooks

KIND_CHOICES = [(kind.value, kind.value.capitalize()) for kind in Kind]


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
    """The lists that a house keeps: fields, words, domains."""

    @staticmethod
    def initial_of(workspace: Workspace) -> dict[str, Any]:
        """The values in the fields of a form that nobody has filled in."""
        lists = ("field_list", "practice_domains", "test_domains", "word_list")
        kept = {name: " ".join(getattr(workspace, name)) for name in lists}
        single = ("rulebooks", "escapes_values", "readers_of_a_file")
        return kept | {name: getattr(workspace, name) for name in single}

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
    escapes_values = forms.BooleanField(
        required=False,
        label="The sending system escapes values",
        help_text="It writes “<” and “&” of a value as entities. Liquid by itself does not: then such a value becomes markup.",
    )
    readers_of_a_file = forms.IntegerField(
        min_value=5,
        max_value=500,
        required=False,
        label="Readers taken of one file",
        help_text="A file with more looks like an audience: the few that show everything are taken.",
    )


class SyntaxForm(forms.Form):
    """The marks and words of a field syntax."""

    name = forms.CharField(max_length=40, required=False, help_text="What your sending system's way of writing fields is called here.")
    open = forms.CharField(max_length=20, required=False, label="Mark before a field")
    close = forms.CharField(max_length=20, required=False, label="Mark after a field")
    default = forms.CharField(max_length=20, required=False, label="Mark before a default", help_text="Empty where there are no defaults.")
    block_open = forms.CharField(
        max_length=20, required=False, label="Mark before a block tag", help_text="Empty where it is the mark of a field."
    )
    block_close = forms.CharField(max_length=20, required=False, label="Mark after a block tag")
    if_words = forms.CharField(max_length=120, required=False, label="Words that open a block", help_text="Parted by blanks.")
    else_words = forms.CharField(max_length=120, required=False, label="Words of another part")
    end_words = forms.CharField(max_length=120, required=False, label="Words that end a block")
    comment_open = forms.CharField(max_length=20, required=False, label="Mark before a comment")
    comment_close = forms.CharField(max_length=20, required=False, label="Mark after a comment")
    escapes = forms.BooleanField(required=False, label="The sending system escapes values")

    #: Names of the form's fields and of the description's entries.
    _ENTRIES: ClassVar[dict[str, str]] = {
        "name": "name",
        "open": "open",
        "close": "close",
        "default": "default",
        "block_open": "block-open",
        "block_close": "block-close",
        "if_words": "if",
        "else_words": "else",
        "end_words": "end",
        "comment_open": "comment-open",
        "comment_close": "comment-close",
    }

    @classmethod
    def initial_of(cls, row: FieldSyntax | None) -> dict[str, Any]:
        """The values in the form of a syntax that is there."""
        if row is None:
            return {}
        given = row.description
        texts = {name: given.get(key, "") for name, key in cls._ENTRIES.items()}
        joined = {name: " ".join(value) if isinstance(value, list) else value for name, value in texts.items()}
        return joined | {"escapes": bool(given.get("escapes"))}

    @classmethod
    def description_of(cls, given: Mapping[str, Any]) -> dict[str, Any]:
        """The description that a form holds, whole or not."""
        texts = {key: str(given.get(name) or "").strip() for name, key in cls._ENTRIES.items()}
        return texts | {"escapes": bool(given.get("escapes"))}

    def description(self) -> dict[str, Any]:
        """The values for the service."""
        return self.description_of(self.cleaned_data)


class RulebookForm(forms.Form):
    """The demands of a house, the messages that they concern, and the days on which they hold."""

    name = forms.CharField(max_length=80, help_text="What your people call it.")
    demands = forms.MultipleChoiceField(
        choices=list(HOUSE_DEMANDS.items()), widget=forms.CheckboxSelectMultiple, required=False, label="Each message has"
    )
    words = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 4}),
        required=False,
        max_length=16_000,
        label="Wording that must stand in it",
        help_text="One piece on each line; in the HTML and in the plain text. Case, spaces and kinds of quotation marks do not matter.",
    )
    kinds = forms.MultipleChoiceField(
        choices=KIND_CHOICES,
        widget=forms.CheckboxSelectMultiple,
        required=False,
        label="Kinds of message",
        help_text="None for every kind.",
    )
    countries = forms.CharField(
        max_length=400,
        required=False,
        label="Countries of the audience",
        help_text="Codes of two letters, such as NL, DE; none for every audience. A message that names no country is held to it, too.",
    )
    since = forms.DateField(required=False, label="Holds from", widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"))
    until = forms.DateField(required=False, label="Holds until", widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"))

    @classmethod
    def initial_of(cls, kept: Mapping[str, Any] | None) -> dict[str, Any]:
        """The values in the form of a rulebook that is there."""
        if kept is None:
            return {}
        return {**kept, "words": "\n".join(kept["words"]), "countries": ", ".join(kept["countries"])}

    def given(self) -> dict[str, Any]:
        """The values for the service."""
        data = self.cleaned_data
        return {
            **{name: data[name] for name in ("name", "demands", "kinds", "since", "until")},
            "words": data["words"].splitlines(),
            "countries": data["countries"].replace(",", " ").split(),
        }


class SigningForm(forms.Form):
    """The form of who signs and sends the house's mail."""

    domain = forms.CharField(
        max_length=253,
        required=False,
        label="Signing domain",
        help_text="The d= of the signature, such as saltmarsh-kiln.example. The DNS is asked for this domain alone.",
    )
    selector = forms.CharField(max_length=120, required=False, help_text="The s= of the signature, such as spring.")
    host = forms.GenericIPAddressField(
        required=False, label="Sending host", help_text="The IP address that mail leaves from, such as 192.0.2.25."
    )
    return_path = forms.CharField(
        max_length=253,
        required=False,
        label="Domain of the return path",
        help_text="Where bounces go; empty where it is the domain of the sender.",
    )
