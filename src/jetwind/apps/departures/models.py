"""Views of the list that people keep."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.db.models import Q

from jetwind.apps.workspace.models import Workspace


class SavedView(models.Model):
    """A filter of Departures under a name: for the person who keeps it, or for everybody in the workspace. ``query`` is what ``Filter.query`` gives."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="saved_views")
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=40)
    query = models.CharField(max_length=1000)
    is_shared = models.BooleanField(default=False)

    class Meta:
        ordering = ["name", "id"]
        constraints = [
            models.UniqueConstraint("workspace", "by", "name", condition=Q(is_shared=False), name="one_own_view_of_a_name"),
            models.UniqueConstraint("workspace", "name", condition=Q(is_shared=True), name="one_shared_view_of_a_name"),
        ]

    def __str__(self) -> str:
        return self.name
