"""Threads of comments, each at one place of a message."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.db.models import Q

from jetwind.apps.intake.models import Mailing, Revision


class Thread(models.Model):
    """What people say at one place. The place is found again in later revisions by what stands there, and ``named`` tells it in words.

    ``fingerprint`` is that of the finding that a thread is about, ``anchor`` leads to its element. A point in a render has a profile, and
    ``left`` and ``top`` in per cent of the element's box there. ``revision`` is the one that the first comment was made on.
    """

    class Kind(models.TextChoices):
        STATION = "station", "the station"
        SUBJECT = "subject", "the subject"
        FINDING = "finding", "a finding"
        ELEMENT = "element", "an element"
        POINT = "point", "a point in a render"

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="threads")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="threads")
    kind = models.CharField(max_length=8, choices=Kind)
    station = models.CharField(max_length=20)
    fingerprint = models.CharField(max_length=16, blank=True)
    anchor = models.JSONField(null=True, blank=True)
    profile = models.CharField(max_length=40, blank=True)
    left = models.FloatField(null=True, blank=True)
    top = models.FloatField(null=True, blank=True)
    named = models.CharField(max_length=300)
    at = models.DateTimeField(auto_now_add=True)
    settled_at = models.DateTimeField(null=True, blank=True)
    settled_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, null=True, blank=True, related_name="+")

    class Meta:
        ordering = ["id"]
        indexes = [models.Index(fields=["mailing"], condition=Q(settled_at=None), name="open_threads")]

    def __str__(self) -> str:
        return f"comments at {self.named[:60]}"


class Comment(models.Model):
    """The words of a person in a thread. ``said_by`` names a recipient of a test copy, who has no account; then there is no ``by``.

    ``told`` are the people for whom it is meant.
    """

    thread = models.ForeignKey(Thread, on_delete=models.CASCADE, related_name="comments")
    by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    said_by = models.CharField(max_length=120, blank=True)
    words = models.TextField(max_length=2000)
    told = models.ManyToManyField(settings.AUTH_USER_MODEL, related_name="+", blank=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return self.words[:60]
