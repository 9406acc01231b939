"""Sets with their members, and the pieces of revisions."""

from __future__ import annotations

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.models import Workspace
from jetwind.core.sets import Traits


class MessageSet(models.Model):
    """A family of automatic messages that is reviewed as one. ``model`` is the member that the others are held against."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="sets")
    name = models.CharField(max_length=80)
    model = models.ForeignKey(Mailing, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint("workspace", "name", name="one_set_of_a_name")]

    def __str__(self) -> str:
        return self.name


class Member(models.Model):
    """A message that a set is expected to have. ``mailing`` is null while it is missing; a message belongs to one set."""

    of = models.ForeignKey(MessageSet, on_delete=models.CASCADE, related_name="members")
    name = models.CharField(max_length=80)
    mailing = models.OneToOneField(Mailing, null=True, blank=True, on_delete=models.SET_NULL, related_name="member")

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("of", "name", name="one_member_of_a_name")]

    def __str__(self) -> str:
        return self.name


class NotedPieces(models.Model):
    """That the pieces of a revision are noted, by which version of the code, and its traits as ``Traits.as_dict`` gives them."""

    revision = models.OneToOneField(Revision, on_delete=models.CASCADE, related_name="noted_pieces")
    version = models.PositiveSmallIntegerField()
    traits = models.JSONField(default=dict)

    class Meta:
        verbose_name_plural = "noted pieces"

    def __str__(self) -> str:
        return f"pieces of {self.revision}"

    @property
    def value(self) -> Traits:
        """The traits."""
        return Traits.from_dict(self.traits)


class PieceUse(models.Model):
    """One piece of a revision, told by its content: kind, digest, first words, and the indexes of its elements."""

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="pieces")
    kind = models.CharField(max_length=10)
    digest = models.CharField(max_length=16)
    words = models.CharField(max_length=300, blank=True)
    elements = ArrayField(models.PositiveIntegerField(), default=list)

    class Meta:
        ordering = ["id"]
        indexes = [models.Index(fields=["digest", "kind"], name="users_of_a_piece")]

    def __str__(self) -> str:
        return f"{self.kind} of {self.revision}"
