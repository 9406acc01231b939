"""Forms of test sends."""

from __future__ import annotations

from typing import Any

from django import forms

from jetwind.apps.proofs.mail_servers import ENTRIES
from jetwind.apps.proofs.models import OwnMailServer


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
