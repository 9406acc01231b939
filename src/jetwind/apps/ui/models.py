"""The rows that every screen shares: intents that were carried out."""

from __future__ import annotations

from django.db import models


class Intent(models.Model):
    """A form that was sent and carried out. ``key`` is the person and the key in the form; unique, so that a second press finds the first."""

    key = models.CharField(max_length=80, primary_key=True)
    address = models.CharField(max_length=2000, blank=True)
    at = models.DateTimeField(auto_now_add=True, db_index=True)

    def __str__(self) -> str:
        return self.key
