"""Changes that people make to their own accounts, and links by which they set a new password."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from datetime import timedelta
from ipaddress import ip_address
from typing import Any

from axes.handlers.proxy import AxesProxyHandler
from axes.models import AccessAttempt
from django.conf import settings
from django.contrib.auth.signals import user_login_failed
from django.contrib.auth.tokens import default_token_generator
from django.core import signing
from django.db import transaction
from django.db.models import Sum
from django.http import HttpRequest
from django.urls import reverse
from django.utils import timezone
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_encode

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.jobs import services as jobs
from jetwind.apps.ui.merging import merged_fields

MAILS = "mail"
_ADDRESS = "jetwind.address"
#: A link is mailed to one person at most so often.
SELDOM = timedelta(minutes=10)


#: Failed sign-ins from one place, with different names, before it has to wait.
MOST_FAILURES = 50


def place_of(request: HttpRequest) -> str:
    """The IP address that a request comes from.

    ``settings.PROXIES`` says how many proxies of ours stand in front. The last of them names the address that it was asked from at the
    end of ``X-Forwarded-For``, and each earlier one stands before it; what the stranger wrote in front of those is not believed.
    """
    near = str(request.META.get("REMOTE_ADDR", ""))
    named = [one.strip() for one in request.headers.get("X-Forwarded-For", "").split(",")]
    if not 0 < settings.PROXIES <= len(named):
        return near
    try:
        return str(ip_address(named[-settings.PROXIES]))
    except ValueError:
        return near


def is_guessing(place: str) -> bool:
    """Whether names and passwords are being guessed from an IP address. One name alone is watched by django-axes, from wherever it is tried."""
    since = timezone.now() - timedelta(hours=settings.AXES_COOLOFF_TIME)
    failed = AccessAttempt.objects.filter(ip_address=place, attempt_time__gt=since).aggregate(all=Sum("failures_since_start"))["all"]
    return (failed or 0) >= MOST_FAILURES


def is_locked_out(request: HttpRequest, name: str) -> bool:
    """Whether a name has been tried in vain too often, or a place has tried too many."""
    return is_guessing(place_of(request)) or not AxesProxyHandler.is_allowed(request, {"username": name})


def count_failure(request: HttpRequest, name: str) -> None:
    """Count a password that does not belong to a name, as one at the sign-in page is counted."""
    user_login_failed.send(sender=__name__, credentials={"username": name}, request=request)


OWN = ("first_name", "last_name", "email", "time_zone", "theme", "mailed")


def shown_own(user: User) -> dict[str, str]:
    """The fields of a person's own account, as a page shows them."""
    return {name: getattr(user, name) for name in OWN}


def change_own(user: User, wanted: Mapping[str, str], shown: Mapping[str, str] | None = None, *, site: str = "") -> list[str]:
    """Change what one's own page shows, merged into what another window of one's own changed. Returns what changed.

    ``site`` is the address of Jetwind at which the person is; mail about what waits leads there.

    Raises:
        Refused: another window changed the same otherwise.
    """
    with transaction.atomic():
        locked = User.objects.select_for_update(no_key=True).get(pk=user.pk)
        kept = merged_fields(shown, wanted, shown_own(locked))
        changed = [name for name, value in kept.items() if getattr(locked, name) != value]
        for name in changed:
            setattr(locked, name, kept[name])
        if site and locked.mailed != User.Mailed.NEVER and locked.mailed_from != site:
            locked.mailed_from = site[:200]
            locked.save(update_fields=["mailed_from"])
        if changed:
            locked.save(update_fields=changed)
            record("account.changed", actor=user, fields=", ".join(name.replace("_", " ") for name in changed))
    return changed


def password_link(person: User) -> str:
    """The path of a link by which a person sets a new password; it holds for a day and until the password changes."""
    uid = urlsafe_base64_encode(force_bytes(person.pk))
    return reverse("set-password", args=[uid, default_token_generator.make_token(person)])


def address_link(person: User) -> str:
    """The path of a link that proves a person's address: only a mail to that address carries it, and it holds for three days."""
    return reverse("prove-address", args=[signing.dumps([person.pk, person.email], salt=_ADDRESS)])


def person_of(link: str) -> tuple[User, str] | None:
    """The person whose address a link proves, and that address; None where the link is not ours, too old, or of an address that is given no more."""
    try:
        number, address = signing.loads(link, salt=_ADDRESS, max_age=timedelta(days=3))
    except signing.BadSignature:
        return None
    person = User.objects.filter(pk=number, email=address, is_active=True).first()
    return (person, address) if person is not None else None


def prove_address(person: User, address: str, how: str) -> None:
    """Take an address for the person's from now on. ``how`` ends the sentence of the log: "by a mail", "by an invitation"."""
    with transaction.atomic():
        locked = User.objects.select_for_update(no_key=True).get(pk=person.pk)
        if not locked.has_proven(address):
            locked.proven_email = address
            locked.save(update_fields=["proven_email"])
            record("account.address-proven", actor=locked, address=address, how=how)
    person.proven_email = address


def mail_address_link(person: User, site: str) -> None:
    """Mail the link by which a person proves the address that they gave."""
    text = f"Somebody, probably you, gave this address at Jetwind as theirs.\n\n{site}{address_link(person)}\n\nThe link holds for three days. If it was not you, do nothing.\n"
    mail_later(
        "Is this your address at Jetwind?",
        text,
        person.email,
        f"address:{person.pk}:{hashlib.sha256(person.email.encode()).hexdigest()[:16]}",
    )


def can_mail() -> bool:
    """Whether a mail server for people is set. The Mailroom is none: everybody of a house reads it."""
    return not settings.HAS_MAILROOM


def mail_later(subject: str, text: str, to: str, about: str) -> None:
    """Mail somebody in the background, unless the same was mailed a moment ago. Where no mail server is set, nothing is."""
    _later("accounts.send_mail", about, subject=subject, text=text, to=to)


def mail_password_link_later(person: User, site: str) -> None:
    """Mail a person, at the person's own address, a link by which to set a new password."""
    mail_later("Set a new password for Jetwind", _password_text(person, site), person.email, f"password:{person.pk}")


def look_for_password_links(address: str, site: str) -> None:
    """Mail links to everybody who has an address, later: asking takes the same time whether anybody has it or nobody."""
    address = address.strip()[:254].casefold()
    mark = hashlib.sha256(address.encode()).hexdigest()[:32]
    _later("accounts.mail_password_links", f"forgotten:{mark}", address=address, site=site)


def mail_password_links(address: str, site: str) -> None:
    """Mail a link to each person who has an address."""
    for person in User.objects.filter(email__iexact=address, is_active=True)[:3] if address else ():
        mail_password_link_later(person, site)


def _password_text(person: User, site: str) -> str:
    return f"Somebody, probably you, asked to set a new password for “{person.username}” at Jetwind.\n\n{site}{password_link(person)}\n\nThe link holds for a day. If it was not you, do nothing.\n"


def _later(task: str, about: str, **arguments: Any) -> None:
    if not can_mail():
        return
    last = jobs.latest(MAILS, about)
    if last is not None and last.created_at > timezone.now() - SELDOM:
        return
    jobs.start(MAILS, about, doing="waiting for a worker", enqueue=lambda work_id: jobs.defer(task, work_id=work_id, **arguments))
