"""Renders of a revision, and what was found out from them."""

from __future__ import annotations

from django.db import models

from jetwind.apps.intake.models import Revision
from jetwind.core.renders.measured import Measured


class Render(models.Model):
    """One picture of a revision in a profile. ``key`` covers the HTML, its pictures and the window: equal keys are rendered once.

    ``reader`` is the sample reader whose copy it shows, empty for the message as it is written; ``made_for`` covers the values and the
    syntax that the copy hangs on. Elements and places are those of the message itself; ``tree`` has the elements of the merged one.
    ``made_with`` is the same for machines whose browser, fonts and code render alike.
    ``mode`` says how the profile was changed for it: ``own`` for not at all, else some of ``images``, ``night`` and ``turned``, each turned
    over, joined by ``+``. ``departure`` is how far its layout lies from that of an engine that drops nothing, in per cent.
    """

    BLOBS = ("blob_sha256",)

    class State(models.TextChoices):
        WAITING = "waiting"
        DONE = "done"
        FAILED = "failed"

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="renders")
    profile = models.CharField(max_length=40)
    mode = models.CharField(max_length=24, default="own")
    reader = models.CharField(max_length=120, default="", blank=True)
    made_for = models.CharField(max_length=64, default="", blank=True)
    made_with = models.CharField(max_length=16, default="", blank=True)
    tree = models.JSONField(default=list)
    key = models.CharField(max_length=64, db_index=True)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    problem = models.TextField(blank=True)
    #: How often the time was too short for it; a few times it is tried again when the machine may be free.
    tries = models.PositiveSmallIntegerField(default=0)
    blob_sha256 = models.CharField(max_length=64, blank=True)
    content_type = models.CharField(max_length=40, blank=True)
    width = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=0)
    measured = models.JSONField(default=dict)
    changes = models.JSONField(default=list)
    clipped = models.BooleanField(default=False)
    blocked = models.JSONField(default=list)
    #: Addresses of pictures that lie elsewhere and were not there when it was made.
    lacking = models.JSONField(default=list)
    departure = models.FloatField(null=True, blank=True)
    #: What a screen reader says, as rows of ``renders.spoken.Spoken``; of the reference profile alone.
    spoken = models.JSONField(default=list)
    #: What is lost with text at 200 %, as rows of ``renders.enlarged.Loss``; null where that was not found out, as of all profiles but one.
    enlarged = models.JSONField(null=True, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("revision", "profile", "mode", "reader", name="one_render_of_a_kind")]

    def __str__(self) -> str:
        return f"{self.profile}, {self.mode}, of {self.revision}"

    @property
    def layout(self) -> Measured:
        """The measurements."""
        return Measured.from_json(self.measured)


class LossTrial(models.Model):
    """Which losses of the chosen profiles show on a revision. ``shown`` is null where that could not be told, for the reason in ``untold``.

    ``key`` is empty while that is still to be tried again; ``tries`` counts how often time ran out.
    """

    revision = models.OneToOneField(Revision, on_delete=models.CASCADE, related_name="loss_trial")
    profiles = models.JSONField()
    key = models.CharField(max_length=64, db_index=True)
    shown = models.JSONField(null=True)
    untold = models.CharField(max_length=200, blank=True)
    tries = models.PositiveSmallIntegerField(default=0)

    def __str__(self) -> str:
        return f"losses that show on {self.revision}"
