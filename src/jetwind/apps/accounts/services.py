"""What people change of themselves, and links by which they set a new password."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta

from axes.models import AccessAttempt
from django.conf import settings
from django.contrib.auth.tokens import default_token_generator
from django.db import transaction
from django.db.models import Sum
from django.urls import reverse
from django.utils import timezone
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_encode

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.jobs import services as jobs

MAILS = "mail"
#: A link is mailed to one person at most so often.
SELDOM = timedelta(minutes=10)


#: Failed sign-ins from one place, whatever the names, before it has to wait.
MOST_FAILURES = 50


def is_guessing(place: str) -> bool:
    """Whether names and passwords are being guessed from an IP address. One name alone is watched by django-axes."""
    since = timezone.now() - timedelta(hours=settings.AXES_COOLOFF_TIME)
    failed = AccessAttempt.objects.filter(ip_address=place, attempt_time__gt=since).aggregate(all=Sum("failures_since_start"))["all"]
    return (failed or 0) >= MOST_FAILURES


def change_own(user: User, wanted: Mapping[str, str]) -> list[str]:
    """Change name, address, time zone or theme of oneself. Returns what changed."""
    with transaction.atomic():
        locked = User.objects.select_for_update().get(pk=user.pk)
        changed = [name for name, value in wanted.items() if getattr(locked, name) != value]
        for name in changed:
            setattr(locked, name, wanted[name])
        if changed:
            locked.save(update_fields=changed)
            record("account.changed", actor=user, fields=", ".join(name.replace("_", " ") for name in changed))
    return changed


def password_link(person: User) -> str:
    """The path of a link by which a person sets a new password; it holds for a day and until the password changes."""
    uid = urlsafe_base64_encode(force_bytes(person.pk))
    return reverse("set-password", args=[uid, default_token_generator.make_token(person)])


def can_mail() -> bool:
    """Whether a mail server for people is set. The Mailroom is none: everybody of a house reads it."""
    return not settings.HAS_MAILROOM


def mail_later(subject: str, text: str, to: str, about: str) -> None:
    """Mail somebody in the background, unless the same was mailed a moment ago. Where no mail server is set, nothing is."""
    if not can_mail():
        return
    last = jobs.latest(MAILS, about)
    if last is not None and last.created_at > timezone.now() - SELDOM:
        return
    jobs.start(
        MAILS,
        about,
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer("accounts.send_mail", subject=subject, text=text, to=to, work_id=work_id),
    )


def mail_password_links(address: str, site: str) -> None:
    """Mail a link to whoever has an address; says nothing of whether anybody has."""
    for person in User.objects.filter(email__iexact=address.strip(), is_active=True)[:3] if address.strip() else ():
        text = f"Somebody, probably you, asked to set a new password for “{person.username}” at Jetwind.\n\n{site}{password_link(person)}\n\nThe link holds for a day. If it was not you, do nothing.\n"
        mail_later("Set a new password for Jetwind", text, person.email, f"password:{person.pk}")
