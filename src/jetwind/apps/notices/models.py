"""What waits for a person."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.db.models import Q

from jetwind.apps.intake.models import Mailing


class Notice(models.Model):
    """A thing that waits for one person, with the path of the page where it is dealt with. A second one of its kind there takes its place."""

    class Kind(models.TextChoices):
        SENT_BACK = "sent-back", "Sent back to you"
        ASKED = "asked", "Waits for your sign-off"
        VOIDED = "voided", "Your sign-off is void"
        ANSWERED = "answered", "A test copy was answered"
        BOUNCED = "bounced", "A test copy came back"
        MENTIONED = "mentioned", "A comment for you"
        GIVEN = "given", "Given to you for review"
        DEADLINE = "deadline", "A review is due"
        MENDED = "mended", "Your message was mended"
        COMMENTED = "commented", "Your comment was answered"

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="notices")
    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="notices")
    kind = models.CharField(max_length=12, choices=Kind)
    words = models.CharField(max_length=300)
    path = models.CharField(max_length=200)
    #: How many things of this kind wait there.
    times = models.PositiveSmallIntegerField(default=1)
    at = models.DateTimeField()
    #: When a mail told the person of it.
    mailed_at = models.DateTimeField(null=True, blank=True)
    read_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-at", "-id"]
        constraints = [models.UniqueConstraint("user", "kind", "path", condition=Q(read_at=None), name="one_unread_notice_of_a_kind")]
        indexes = [models.Index(fields=["user", "mailing"], condition=Q(read_at=None), name="unread_notices")]

    def __str__(self) -> str:
        return f"{self.get_kind_display()}: {self.words[:40]}"
