"""Mailings and their revisions."""

from __future__ import annotations

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from jetwind.apps.accounts.models import validate_zone
from jetwind.apps.workspace.models import FieldSyntax, Workspace
from jetwind.apps.workspace.syntaxes import shipped_syntax
from jetwind.core.checking import Kind
from jetwind.core.fields import Syntax
from jetwind.core.message import Envelope

KIND_CHOICES = [(kind.value, kind.value.capitalize()) for kind in Kind]


class Mailing(models.Model):
    """A message on its way from intake to release.

    ``local_time``: it leaves at the planned hour of each reader's own zone. ``brief`` is what ``Brief.as_dict`` gives.
    """

    class Stage(models.TextChoices):
        TAKEN_IN = "taken-in", "Taken in"
        UNDER_REVIEW = "under-review", "Under review"
        SENT_BACK = "sent-back", "Sent back"
        CLEARED = "cleared", "Cleared"
        RELEASED = "released", "Released"

    workspace = models.ForeignKey(Workspace, on_delete=models.PROTECT, related_name="mailings")
    title = models.CharField(max_length=160)
    kind = models.CharField(max_length=20, choices=KIND_CHOICES, default=Kind.PROMOTIONAL.value)
    audience = models.CharField(max_length=200, blank=True)
    #: Where the audience lives, as codes of ISO 3166-1; empty for anywhere.
    countries = ArrayField(models.CharField(max_length=2), default=list, blank=True)
    planned_at = models.DateTimeField(null=True, blank=True)
    planned_zone = models.CharField(max_length=60, default="UTC", validators=[validate_zone])
    local_time = models.BooleanField(default=False)
    brief = models.JSONField(default=dict, blank=True)
    stage = models.CharField(max_length=20, choices=Stage, default=Stage.TAKEN_IN)
    #: Words by which people find it again on Departures.
    labels = ArrayField(models.CharField(max_length=30), default=list, blank=True)
    #: The person to whom its review was given, and the time by which the review is to be done.
    given_to = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    review_by = models.DateTimeField(null=True, blank=True)
    #: How its fields are written; none is the shipped one.
    syntax = models.ForeignKey(FieldSyntax, null=True, blank=True, on_delete=models.PROTECT, related_name="mailings")
    #: The sample reader whose copy is rendered and measured; empty for the one whose copy is longest.
    measured_as = models.CharField(max_length=120, blank=True, default="")
    copied_from = models.ForeignKey("self", null=True, blank=True, on_delete=models.SET_NULL, related_name="copies")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=Q(stage__in=["taken-in", "under-review", "sent-back", "cleared", "released"]), name="known_stage"
            ),
            models.CheckConstraint(condition=Q(kind__in=[kind.value for kind in Kind]), name="known_kind"),
        ]

    def __str__(self) -> str:
        return self.title

    @property
    def field_syntax(self) -> Syntax:
        """How its fields are written, and whether the sending system escapes their values."""
        return self.syntax.syntax if self.syntax is not None else shipped_syntax(self.workspace)

    @property
    def is_locked(self) -> bool:
        """Whether it is released, and read-only from then on."""
        return self.stage == self.Stage.RELEASED


#: Octets and tags beyond which a message is large; a large newsletter has one or two million octets with its pictures, and 4,000 tags.
LARGE, MANY_TAGS = 4_000_000, 20_000


class Revision(models.Model):
    """One exact content of a mailing. Immutable: the database refuses to change one.

    ``content_sha256`` covers the file and the envelope; sign-offs and clearance are over it.
    """

    BLOBS = ("source_sha256",)

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    file_name = models.CharField(max_length=255)
    source_sha256 = models.CharField(max_length=64)
    content_sha256 = models.CharField(max_length=64)
    envelope = models.JSONField(null=True, blank=True)
    #: Its texts, pictures and attachments, unpacked; 0 for a revision that was taken in before this was kept.
    octets = models.PositiveBigIntegerField(default=0)
    #: Tags that its HTML has at most; 0 likewise.
    tags = models.PositiveIntegerField(default=0)
    subject = models.CharField(max_length=998, blank=True)
    sender = models.CharField(max_length=320, blank=True)
    uploaded_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint("mailing", "number", name="one_revision_of_a_number")]

    def __str__(self) -> str:
        return f"{self.mailing.title} r{self.number}"

    @property
    def is_large(self) -> bool:
        """Whether work on it takes so long that small ones are to pass it."""
        return self.octets > LARGE or self.tags > MANY_TAGS

    @property
    def given_envelope(self) -> Envelope | None:
        """The envelope that a person gave, or None where the headers speak."""
        return Envelope.from_dict(self.envelope) if self.envelope is not None else None


class Batch(models.Model):
    """Many files that somebody brought at once, kept as one zip."""

    BLOBS = ("blob_sha256",)

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="batches")
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    name = models.CharField(max_length=200)
    blob_sha256 = models.CharField(max_length=64)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        verbose_name_plural = "batches"

    def __str__(self) -> str:
        return self.name


class BatchFile(models.Model):
    """One file of a batch, with the message that it became, or the sentence by which it was refused."""

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="files")
    number = models.PositiveSmallIntegerField()
    name = models.CharField(max_length=300)
    mailing = models.ForeignKey(Mailing, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    refused = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint("batch", "number", name="one_row_of_a_file")]

    def __str__(self) -> str:
        return self.name
