"""Forms about oneself."""

from __future__ import annotations

from typing import Any
from zoneinfo import available_timezones

from django import forms
from django.contrib.auth.forms import AuthenticationForm, PasswordChangeForm, UsernameField
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError

from jetwind.apps.accounts.models import User
from jetwind.apps.ui.widgets import LongSelect

WHAT_IS_STRONG = "At least twelve characters, not one of the common ones, and not like your name."
ZONES = [(name, name) for name in sorted(available_timezones())]


class OwnForm(forms.ModelForm):
    """A person's own account: name, address, time zone and password."""

    time_zone = forms.ChoiceField(choices=ZONES, widget=LongSelect, help_text="Times are shown in it.")

    class Meta:
        model = User
        fields = ["first_name", "last_name", "email", "time_zone", "theme", "mailed"]
        labels = {"email": "E-mail address", "theme": "Look", "mailed": "Mail about what waits for me"}
        help_texts = {"mailed": "It goes to your e-mail address once that is known to be yours."}


class SignInForm(AuthenticationForm):
    """Name and password. A name that is longer than the longest possible one is refused without a look-up."""

    username = UsernameField(
        max_length=150, error_messages={"max_length": "A sign-in name has up to %(limit_value)d characters; this one has %(show_value)d."}
    )


class OwnPasswordForm(PasswordChangeForm):
    """The old password, and the new one twice."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        # The form stands below others, so it must not take the focus; its help is one line, not Django's list.
        self.fields["old_password"].widget.attrs.pop("autofocus", None)
        self.fields["new_password1"].help_text = WHAT_IS_STRONG
        self.fields["new_password2"].label, self.fields["new_password2"].help_text = "New password again", ""


class NewPersonForm(forms.ModelForm):
    """Somebody who comes in for the first time."""

    password = forms.CharField(
        widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}),
        strip=False,
        help_text=WHAT_IS_STRONG,
    )
    time_zone = forms.ChoiceField(choices=ZONES, widget=LongSelect, initial="UTC", help_text="Times are shown in it.")
    field_order = ["first_name", "last_name", "username", "password", "email", "time_zone"]

    class Meta:
        model = User
        fields = ["first_name", "last_name", "username", "email", "time_zone"]
        labels = {"username": "Sign-in name", "email": "E-mail address"}
        help_texts = {"username": "Letters, digits and @ . + - _ only."}

    def clean(self) -> dict[str, Any]:
        """The password is held against the validators, and against the other answers."""
        found = super().clean() or {}
        if "password" in found:
            known = User(**{name: found.get(name, "") for name in ("username", "first_name", "last_name", "email")})
            try:
                validate_password(found["password"], known)
            except ValidationError as weak:
                self.add_error("password", weak)
        return found
