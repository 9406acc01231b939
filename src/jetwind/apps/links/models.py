"""The addresses that a house opens, every answer that came, and what persons said of links."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models.functions import MD5

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.models import Workspace
from jetwind.core.links.answers import Answer


class When(models.TextChoices):
    """The moment at which addresses are asked for."""

    ALWAYS = "always", "always, when a message is taken in"
    ASKED = "asked", "when somebody asks for it"
    NEVER = "never", "never"


#: The fields of a wire that hold entries one below the other, and those that hold one value, by what they set.
LISTS = ("inward_hosts", "ports", "shut")
SINGLE = {"links": "opening of links", "pictures": "fetching of pictures"}


class Wire(models.Model):
    """The addresses that a workspace lets Jetwind open. ``inward_hosts`` may lie inside the network, each with its port, as far as the administrator allows; ``ports`` are allowed beside 80 and 443, ``shut`` is never opened."""

    workspace = models.OneToOneField(Workspace, on_delete=models.CASCADE, related_name="wire")
    links = models.CharField(max_length=10, choices=When, default=When.ALWAYS)
    pictures = models.CharField(max_length=10, choices=When, default=When.ALWAYS)
    inward_hosts = ArrayField(models.CharField(max_length=260), default=list, blank=True)
    ports = ArrayField(models.CharField(max_length=5), default=list, blank=True)
    shut = ArrayField(models.CharField(max_length=300), default=list, blank=True)

    def __str__(self) -> str:
        return f"what {self.workspace} opens"


class Kind(models.TextChoices):
    """The reason for asking for an address: a link leads there, or a picture lies there."""

    LINK = "link", "link"
    PICTURE = "picture", "picture"


class ShortAnswer(NamedTuple):
    """A row of :class:`LinkAnswer` without the copy of its page: a list of two hundred shows none of it, and it may be megabytes."""

    pk: int
    kind: str
    address: str
    asked_at: datetime
    landing: dict[str, str]
    answer: dict[str, Any]

    @property
    def value(self) -> Answer:
        """The answer itself."""
        return Answer.from_json(self.answer)


class LinkAnswers(models.QuerySet["LinkAnswer"]):
    """Answers, whole or short."""

    def short(self) -> list[ShortAnswer]:
        """The rows without what is long."""
        without_copy = models.Func("answer", template="%(expressions)s #- '{page,text}'", output_field=models.JSONField())
        rows = self.annotate(without_copy=without_copy).values_list("pk", "kind", "address", "asked_at", "landing", "without_copy")
        return [ShortAnswer(*row) for row in rows]


class LinkAnswer(models.Model):
    """One answer to one address. Kept as they come, so that what was alive yesterday can be told from what never was.

    ``blob_sha256`` is the picture that came; ``landing`` holds the pictures of a landing page by the width that it was laid out for.
    """

    BLOBS = ("blob_sha256", "landing")

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="+")
    kind = models.CharField(max_length=10, choices=Kind)
    address = models.TextField()
    address_sha256 = models.CharField(max_length=64)
    asked_at = models.DateTimeField()
    fresh_until = models.DateTimeField()
    answer = models.JSONField()
    blob_sha256 = models.CharField(max_length=64, blank=True)
    landing = models.JSONField(default=dict)

    objects = LinkAnswers.as_manager()

    class Meta:
        ordering = ["-asked_at", "-id"]
        indexes = [models.Index(fields=["workspace", "kind", "address_sha256", "-asked_at"], name="answers_of_an_address")]

    def __str__(self) -> str:
        return f"{self.address[:60]} at {self.asked_at}"

    @property
    def value(self) -> Answer:
        """The answer itself."""
        return Answer.from_json(self.answer)


class CurrentAnswers(models.Model):
    """Which answers stand for a revision now: the numbers of their rows, one value for what they say, and how many links are there."""

    revision = models.OneToOneField(Revision, on_delete=models.CASCADE, related_name="current_answers")
    links = models.JSONField(default=list)
    pictures = models.JSONField(default=list)
    there = models.PositiveIntegerField(default=0)
    key = models.CharField(max_length=64)
    changed_at = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return f"what {self.revision} leads to"


class SeenByHand(models.Model):
    """A person opened a link of a message by hand and found it in order."""

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="seen_links")
    address = models.TextField()
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("mailing", MD5("address"), name="one_look_at_a_link")]

    def __str__(self) -> str:
        return f"{self.by} opened {self.address[:60]}"


class LetOpen(models.Model):
    """A person lets one link of a message be opened that would not be."""

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="let_open")
    address = models.TextField()
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("mailing", MD5("address"), name="let_open_once")]

    def __str__(self) -> str:
        return f"{self.by} lets {self.address[:60]} be opened"
