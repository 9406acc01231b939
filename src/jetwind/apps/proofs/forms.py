"""Forms of test sends."""

from __future__ import annotations

from typing import Any

from django import forms

from jetwind.apps.proofs.mail_servers import ENTRIES
from jetwind.apps.proofs.models import OwnMailServer
from jetwind.apps.workspace.models import SampleReader, Workspace


class PersonForm(forms.Form):
    """A person of a test list; the address stays as it is."""

    name = forms.CharField(max_length=120, required=False)
    reader = forms.ModelChoiceField(
        queryset=SampleReader.objects.none(),
        required=False,
        empty_label="nobody: defaults only",
        label="Gets the copy of",
        help_text="The sample reader for whom the copy is merged, unless a test send says otherwise.",
    )
    devices = forms.CharField(
        max_length=200, required=False, label="Reads mail on", help_text="Devices and programs, in the person’s own words."
    )

    def __init__(self, *args: Any, workspace: Workspace, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        chosen = self.fields["reader"]
        assert isinstance(chosen, forms.ModelChoiceField)
        chosen.queryset = workspace.readers.all()

    def given(self) -> dict[str, Any]:
        """The entries for the service."""
        data = self.cleaned_data
        return {"name": data["name"], "reader": data["reader"].pk if data["reader"] else None, "devices": data["devices"]}


class MailServerForm(forms.ModelForm):
    """A mail server of a team's own. The password field is always empty: a password that is kept is never shown again."""

    password = forms.CharField(
        max_length=200,
        required=False,
        strip=False,
        widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}),
        help_text="It is kept encrypted, and never shown again.",
    )

    class Meta:
        model = OwnMailServer
        fields = list(ENTRIES)
        labels = {"security": "Encryption", "user": "Login", "per_minute": "Messages a minute"}
        help_texts = {
            "name": "What your people call it.",
            "host": "Such as mail.saltmarsh-kiln.example.",
            "port": "587 with STARTTLS, 465 with TLS from the start.",
            "user": "Empty where the server asks for none.",
            "per_minute": "Empty for no limit. All workers keep to it together.",
        }

    def __init__(self, *args: Any, has_password: bool, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.order_fields(["name", "host", "port", "security", "user", "password", "per_minute"])
        if has_password:
            self.fields["password"].help_text = "One is kept. Leave this empty to keep it; another host, port or login needs it again."

    def validate_unique(self) -> None:
        """The service finds out under its lock."""

    def validate_constraints(self) -> None:
        """The service finds out under its lock."""

    def given(self) -> dict[str, Any]:
        """The entries for the service."""
        return {name: self.cleaned_data[name] for name in ENTRIES}
