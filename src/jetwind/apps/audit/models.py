"""Entries of the log. The database refuses to change or delete one."""

from __future__ import annotations

from django.conf import settings
from django.db import models


class LogEntry(models.Model):
    """One thing that happened. ``hash`` covers everything in it and the hash of the entry before it in its chain.

    Each workspace has a chain, which has the number of the workspace. Entries that concern no workspace, such as a changed password, stand in
    the chain 0, and so do all entries from before workspaces had chains.
    """

    at = models.DateTimeField()
    actor = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    action = models.CharField(max_length=60)
    chain = models.BigIntegerField(default=0)
    workspace_id = models.BigIntegerField(null=True)
    mailing_id = models.BigIntegerField(null=True)
    data = models.JSONField(default=dict)
    previous_hash = models.CharField(max_length=64)
    hash = models.CharField(max_length=64, unique=True)

    class Meta:
        ordering = ["id"]
        indexes = [
            models.Index(fields=["chain", "-id"], name="newest_of_a_chain"),
            models.Index(fields=["workspace_id", "-id"], name="newest_in_a_workspace"),
            models.Index(fields=["mailing_id", "-id"], name="newest_of_a_mailing"),
            # What a page on a workspace shows: without the entries of its messages.
            models.Index(fields=["workspace_id", "-id"], condition=models.Q(mailing_id=None), name="newest_of_a_workspace"),
        ]

    def __str__(self) -> str:
        return f"{self.action} at {self.at:%Y-%m-%d %H:%M}"

    @property
    def sentence(self) -> str:
        """The event, in plain words."""
        from jetwind.apps.audit.actions import sentence

        return sentence(self.action, self.data)


class Verified(models.Model):
    """When the whole log was verified last, and what came of it. There is one row. ``broken`` is the number of the first wrong entry."""

    only = models.BooleanField(default=True, unique=True)
    at = models.DateTimeField()
    entries = models.PositiveBigIntegerField()
    broken = models.BigIntegerField(null=True)

    def __str__(self) -> str:
        return f"{self.entries} entries verified at {self.at:%Y-%m-%d %H:%M}"
