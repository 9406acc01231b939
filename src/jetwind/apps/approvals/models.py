"""Sign-offs, stand-ins and the release, over exact content."""

from __future__ import annotations

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.models import Workspace


class SignOff(models.Model):
    """Somebody other than the uploader says yes to one content, or refuses it. Void once what the yes rests on has changed.

    ``roles`` are those under which it was given, ``in_place_of`` the person who was away then. ``condition`` is empty, or holds ``kind``
    ("finding" or "comment"), ``name`` (a fingerprint, the number of a thread) and ``words``; it counts while ``condition_met_at`` is set.
    ``rests`` is what ``core.clearing.changes`` takes, ``rests_sha256`` its digest; ``changed`` are the sentences that voided it.
    """

    class Said(models.TextChoices):
        SIGNED = "signed", "signed"
        REFUSED = "refused", "refused"

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="sign_offs")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="sign_offs")
    content_sha256 = models.CharField(max_length=64)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    role = models.CharField(max_length=20)
    roles = ArrayField(models.CharField(max_length=20), default=list)
    in_place_of = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    said = models.CharField(max_length=10, choices=Said, default=Said.SIGNED)
    comment = models.CharField(max_length=500, blank=True)
    condition = models.JSONField(default=dict, blank=True)
    condition_met_at = models.DateTimeField(null=True, blank=True)
    rests = models.JSONField(default=dict, blank=True)
    rests_sha256 = models.CharField(max_length=64, blank=True)
    changed = models.JSONField(default=list, blank=True)
    at = models.DateTimeField(auto_now_add=True)
    voided_at = models.DateTimeField(null=True, blank=True)
    voided_reason = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("revision", "by", condition=Q(voided_at=None), name="one_valid_sign_off_a_person")]

    def __str__(self) -> str:
        return f"{self.by} on {self.revision}"

    @property
    def waits_for(self) -> str:
        """The condition under which it counts, in words; empty where it counts now."""
        return str(self.condition.get("words", "")) if self.condition and self.condition_met_at is None else ""


class StandIn(models.Model):
    """A person who signs in the place of a colleague while that colleague is away: from the first day to the last, in the colleague's zone."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="stand_ins")
    away = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    stands_in = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    since = models.DateField()
    until = models.DateField()
    ended_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["since", "id"]
        constraints = [
            models.CheckConstraint(condition=Q(until__gte=models.F("since")), name="away_ends_after_it_begins"),
            models.CheckConstraint(condition=~Q(away=models.F("stands_in")), name="nobody_stands_in_for_themselves"),
        ]

    def __str__(self) -> str:
        return f"{self.stands_in} for {self.away}"


class Release(models.Model):
    """The end of the way: one in force for each mailing, with its clearance record. One that was taken back is kept with the reason.

    ``package_sha256`` is the digest of its package, empty before that was made.
    """

    BLOBS = ("package_sha256",)

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="releases")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT, related_name="+")
    record = models.JSONField()
    record_sha256 = models.CharField(max_length=64)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField()
    package_sha256 = models.CharField(max_length=64, blank=True)
    package_octets = models.PositiveBigIntegerField(default=0)
    taken_back_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    taken_back_at = models.DateTimeField(null=True, blank=True)
    taken_back_because = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("mailing", condition=Q(taken_back_at=None), name="one_release_in_force")]

    def __str__(self) -> str:
        return f"release of {self.mailing}"


class SigningKey(models.Model):
    """The key with which the packages of a workspace are signed; its private half is sealed with the key of this installation."""

    workspace = models.OneToOneField(Workspace, on_delete=models.CASCADE, related_name="signing_key")
    public_pem = models.TextField()
    sealed_private = models.TextField()
    at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"key of {self.workspace}"
