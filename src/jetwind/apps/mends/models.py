"""The mends of a revision, as they were found and proven."""

from __future__ import annotations

from django.db import models

from jetwind.apps.intake.models import Revision


class PreparedMends(models.Model):
    """The mends that a revision is offered, and those that are withheld. ``rests_on`` changes with the findings that they rest on.

    ``offers`` are tables as ``services.as_table`` makes them, ``withheld`` tables with ``check``, ``sentence`` and ``why``. ``sums`` has for
    "now", "sure" and "all" what ``services.Sums`` holds: as the message is, with its sure mends, with all that need no word.
    """

    revision = models.OneToOneField(Revision, on_delete=models.CASCADE, related_name="prepared_mends")
    rests_on = models.CharField(max_length=64)
    offers = models.JSONField(default=list)
    withheld = models.JSONField(default=list)
    sums = models.JSONField(default=dict)
    #: How many offers are sure.
    sure = models.PositiveIntegerField(default=0)
    #: The message with its sure mends, and with all that need no word.
    sure_sha256 = models.CharField(max_length=64)
    all_sha256 = models.CharField(max_length=64)
    at = models.DateTimeField(auto_now=True)

    BLOBS = ("sure_sha256", "all_sha256")

    class Meta:
        verbose_name_plural = "prepared mends"

    def __str__(self) -> str:
        return f"{len(self.offers)} mends of {self.revision}"


class MendedRender(models.Model):
    """A picture of a revision in a client profile: as it is now, with its sure mends, or with all mends that need no word.

    ``areas`` are where it differs from the picture of now: left, top, width and height in per cent of the larger picture. ``problem`` says why
    there is no picture.
    """

    BLOBS = ("blob_sha256",)

    class Side(models.TextChoices):
        NOW = "now", "as it is"
        SURE = "sure", "with its sure mends"
        ALL = "all", "with all mends"

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="mended_renders")
    side = models.CharField(max_length=4, choices=Side)
    profile = models.CharField(max_length=40)
    blob_sha256 = models.CharField(max_length=64, blank=True)
    content_type = models.CharField(max_length=40, blank=True)
    width = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=0)
    areas = models.JSONField(default=list)
    problem = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("revision", "side", "profile", name="one_mended_render_of_a_profile")]

    def __str__(self) -> str:
        return f"{self.revision} {self.get_side_display()} in {self.profile}"
