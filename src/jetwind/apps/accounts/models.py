"""People."""

from __future__ import annotations

from typing import Any
from zoneinfo import ZoneInfo, available_timezones

from django.contrib.auth.models import AbstractUser
from django.core.exceptions import ValidationError
from django.db import models


def validate_zone(value: str) -> None:
    """An IANA time-zone name."""
    if value not in available_timezones():
        raise ValidationError(f"{value} is not an IANA time zone such as Europe/Lisbon.")


class User(AbstractUser):
    """A person who signs in. ``time_zone`` is where times are shown, ``theme`` how screens look."""

    class Theme(models.TextChoices):
        SYSTEM = "system", "As the device has it"
        LIGHT = "light", "Light"
        DARK = "dark", "Dark"

    class Mailed(models.TextChoices):
        NEVER = "never", "Never"
        DAILY = "daily", "Once a day, in the morning"
        AT_ONCE = "at-once", "At once"

    time_zone = models.CharField(max_length=60, default="UTC", validators=[validate_zone])
    #: How often the person is mailed about what waits, and the address of Jetwind that such mail leads to.
    mailed = models.CharField(max_length=8, choices=Mailed, default=Mailed.NEVER)
    mailed_from = models.CharField(max_length=200, blank=True)
    theme = models.CharField(max_length=10, choices=Theme, default=Theme.SYSTEM)
    #: The last address that is known to be the person's: a mail reached them there, or the administrator of the installation vouched for it.
    proven_email = models.EmailField(blank=True)

    #: The workspace that the person chose to work in, of several; kept in the session, and set with each request.
    chosen_workspace: int | None = None
    #: The memberships in force that a request has already looked up, so that its page need not ask again.
    known_memberships: list[Any] | None = None

    @property
    def shown_name(self) -> str:
        """The name that screens and records show."""
        return self.get_full_name() or self.username

    def has_proven(self, address: str) -> bool:
        """Whether an e-mail address is known to be this person's."""
        return bool(address) and self.proven_email.casefold() == address.casefold()

    @property
    def has_proven_own(self) -> bool:
        """Whether the address that the person gave is known to be theirs."""
        return self.has_proven(self.email)

    @property
    def zone(self) -> ZoneInfo:
        """The time zone as an object."""
        return ZoneInfo(self.time_zone)
