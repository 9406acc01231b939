"""What an author was asked to change."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from jetwind.apps.comments.models import Thread
from jetwind.apps.intake.models import Mailing, Revision


class SendingBack(models.Model):
    """A revision given back to its author, with the words of the person who did it."""

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="sendings_back")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="sendings_back")
    words = models.TextField(max_length=2000)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)
    #: Jetwind's own address, for the mail to the author.
    base = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["id"]
        verbose_name_plural = "sendings back"

    def __str__(self) -> str:
        return f"{self.revision} sent back"


class Instruction(models.Model):
    """One thing to change: a finding or a thread of comments, as it was when the message was sent back.

    ``names`` are the fingerprints by which the finding is known: its own, that of its cause, those of its faults. ``places`` are tables
    with ``where``, ``line``, ``column``, ``characters`` and ``fault``, ``more`` counts those beyond. ``level`` is "comment" for a thread alone;
    a thread about a finding that is asked for too goes with the finding.
    """

    BLOBS = ("blob_sha256",)

    sending_back = models.ForeignKey(SendingBack, on_delete=models.CASCADE, related_name="instructions")
    number = models.PositiveSmallIntegerField()
    level = models.CharField(max_length=7)
    station = models.CharField(max_length=20)
    what = models.TextField()
    why = models.TextField(blank=True)
    fix = models.TextField(blank=True)
    places = models.JSONField(default=list)
    more = models.PositiveIntegerField(default=0)
    check_id = models.CharField(max_length=60, blank=True)
    names = models.JSONField(default=list)
    thread = models.ForeignKey(Thread, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    #: A picture of the place as PNG; empty where none was made.
    blob_sha256 = models.CharField(max_length=64, blank=True)
    ticked_at = models.DateTimeField(null=True, blank=True)
    ticked_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint("sending_back", "number", name="one_instruction_of_a_number")]

    def __str__(self) -> str:
        return f"{self.number}: {self.what[:60]}"
