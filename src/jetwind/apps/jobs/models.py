"""Progress of work in the background, as rows that a page reads."""

from __future__ import annotations

from django.db import models
from django.db.models import Q

#: The states in which work still goes on.
OPEN = ("waiting", "running")


class Work(models.Model):
    """One piece of long work. ``subject`` says what it is for (``revision:7``), so that a page finds it."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for a worker"
        RUNNING = "running", "running"
        DONE = "done", "done"
        FAILED = "failed", "failed"
        CANCELLED = "cancelled", "cancelled"

    kind = models.CharField(max_length=40)
    subject = models.CharField(max_length=60)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=1)
    doing = models.CharField(max_length=120, blank=True)
    problem = models.TextField(blank=True)
    cancel_requested = models.BooleanField(default=False)
    #: The job of the queue that carries it out, and how often it was taken up again after an interruption.
    job_id = models.BigIntegerField(null=True)
    interruptions = models.PositiveSmallIntegerField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [
            # The same work is never under way twice, even where two people ask for it at the same moment.
            models.UniqueConstraint("kind", "subject", condition=Q(state__in=OPEN), name="one_open_work"),
        ]
        # The newest of each kind for a subject, which every page asks for.
        indexes = [models.Index(fields=["subject", "kind", "-id"], name="newest_of_a_subject")]

    def __str__(self) -> str:
        return f"{self.kind} for {self.subject}: {self.state}"

    @property
    def is_open(self) -> bool:
        """Whether it still goes on."""
        return self.state in OPEN


class Machine(models.Model):
    """A worker and what it works with. Each worker writes its own row; everybody else knows of machines what these rows say.

    ``name`` is that of the machine with the number of the process and some letters drawn by lot. ``facts`` are those of ``engines.machine.MachineFacts``; equal facts
    have the same ``key``. ``seen_at`` moves on while the worker lives; ``is_stopped`` says that it has ended in good order.
    """

    name = models.CharField(max_length=120, unique=True)
    host = models.CharField(max_length=100)
    key = models.CharField(max_length=16)
    facts = models.JSONField()
    started_at = models.DateTimeField()
    seen_at = models.DateTimeField()
    is_stopped = models.BooleanField(default=False)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Clock(models.Model):
    """Until when the workers have looked after what becomes due by itself, and which machines counted then. There is one row."""

    only = models.BooleanField(default=True, unique=True)
    looked_at = models.DateTimeField()
    machines = models.JSONField(default=list)

    def __str__(self) -> str:
        return f"looked after until {self.looked_at}"
