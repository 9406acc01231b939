"""Sign-offs and the release, over exact content."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.db.models import Q

from jetwind.apps.intake.models import Mailing, Revision


class SignOff(models.Model):
    """Somebody other than the uploader says yes to one content. Void once that content is no longer the newest."""

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="sign_offs")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="sign_offs")
    content_sha256 = models.CharField(max_length=64)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    role = models.CharField(max_length=20)
    comment = models.CharField(max_length=500, blank=True)
    at = models.DateTimeField(auto_now_add=True)
    voided_at = models.DateTimeField(null=True, blank=True)
    voided_reason = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("revision", "by", condition=Q(voided_at=None), name="one_valid_sign_off_a_person")]

    def __str__(self) -> str:
        return f"{self.by} on {self.revision}"


class Release(models.Model):
    """The end of the way: one for each mailing, with its clearance record."""

    mailing = models.OneToOneField(Mailing, on_delete=models.CASCADE, related_name="release")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT, related_name="+")
    record = models.JSONField()
    record_sha256 = models.CharField(max_length=64)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField()

    def __str__(self) -> str:
        return f"release of {self.mailing}"
