"""Background work about people."""

from __future__ import annotations

from django.conf import settings
from django.core.mail import EmailMessage
from procrastinate.contrib.django import app

from jetwind.apps.accounts import services
from jetwind.apps.jobs import services as jobs


@app.task(name="accounts.send_mail", priority=20)
def send_mail(subject: str, text: str, to: str, work_id: int) -> None:
    """Mail one person."""
    with jobs.carried_out(work_id):
        jobs.report(work_id, done=0, total=1, doing="mailing")
        EmailMessage(subject, text, settings.DEFAULT_FROM_EMAIL, [to]).send()


@app.task(name="accounts.mail_password_links", priority=20)
def mail_password_links(address: str, site: str, work_id: int) -> None:
    """Mail a link for a new password to each person who has an address."""
    with jobs.carried_out(work_id):
        jobs.report(work_id, done=0, total=1, doing="looking the address up")
        services.mail_password_links(address, site)
