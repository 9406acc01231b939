"""Renders of a revision."""

from __future__ import annotations

from django.db import models

from jetwind.apps.intake.models import Revision


class Render(models.Model):
    """One picture of a revision in a profile. ``key`` covers the HTML, its pictures and the profile: equal keys are rendered once."""

    class Mode(models.TextChoices):
        LIGHT = "light", "images shown"
        BLOCKED = "blocked", "images blocked"
        NIGHT = "night", "night"

    class State(models.TextChoices):
        WAITING = "waiting"
        DONE = "done"
        FAILED = "failed"

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="renders")
    profile = models.CharField(max_length=40)
    mode = models.CharField(max_length=10, choices=Mode)
    key = models.CharField(max_length=64, db_index=True)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    problem = models.TextField(blank=True)
    blob_sha256 = models.CharField(max_length=64, blank=True)
    content_type = models.CharField(max_length=40, blank=True)
    width = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=0)
    content_width = models.PositiveIntegerField(default=0)
    cut = models.BooleanField(default=False)
    boxes = models.JSONField(default=list)
    facts = models.JSONField(default=dict)
    dropped = models.JSONField(default=list)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("revision", "profile", "mode", name="one_render_of_a_kind")]

    def __str__(self) -> str:
        return f"{self.profile}, {self.get_mode_display()}, of {self.revision}"
