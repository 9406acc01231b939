"""The answers of the checks on a revision, the excuses, and the stations that somebody looked at."""

from __future__ import annotations

from copy import copy
from typing import Any

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking import Outcome
from jetwind.core.images.words import Words


class CheckRun(models.Model):
    """All checks on one revision under one set of circumstances. ``key`` covers content, check versions and options."""

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="check_runs")
    key = models.CharField(max_length=64)
    outcomes = models.JSONField(default=dict)
    spam = models.JSONField(default=dict)
    #: What a report says of the message itself: preview text, number of links.
    summary = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint("revision", "key", name="one_run_of_a_question")]

    def __str__(self) -> str:
        return f"checks of {self.revision}"

    @property
    def unlooked(self) -> list[str]:
        """Checks that looked at nothing to the end: they ran out of time or memory, or failed. They never count as clear."""
        return [check_id for check_id, (outcome, *_) in self.outcomes.items() if Outcome(outcome).is_unlooked]


class FindingRecord(models.Model):
    """A finding of a run, as plain values; its sentence is made when it is shown."""

    run = models.ForeignKey(CheckRun, on_delete=models.CASCADE, related_name="findings")
    order = models.PositiveIntegerField()
    check_id = models.CharField(max_length=60)
    station = models.CharField(max_length=20)
    level = models.CharField(max_length=4)
    fingerprint = models.CharField(max_length=16)
    template = models.CharField(max_length=240)
    data = models.JSONField(default=dict)
    part = models.CharField(max_length=12)
    name = models.CharField(max_length=255, blank=True)
    start = models.PositiveIntegerField(null=True)
    end = models.PositiveIntegerField(null=True)
    line = models.PositiveIntegerField(null=True)
    column = models.PositiveIntegerField(null=True)
    element = models.PositiveIntegerField(null=True)
    #: Places besides the first: tables with part, name, start, end, line, column and element.
    others = models.JSONField(default=list)
    #: Places beyond those that are listed.
    more = models.PositiveIntegerField(default=0)
    #: The fingerprint of the cause where faults of one cause are told together, and of each fault how many places it has.
    cause = models.CharField(max_length=16, blank=True)
    members = models.JSONField(default=dict)
    #: From two faults on, of each that has places listed: its sentence, its mend, its fingerprint, how many of the listed places are its own.
    faults = models.JSONField(default=list)
    fix = models.TextField()
    basis = models.CharField(max_length=200)
    sentence = models.TextField()

    class Meta:
        ordering = ["order"]

    def __str__(self) -> str:
        return self.sentence

    @property
    def where(self) -> str:
        """Where it stands, in words."""
        part = {"html": "HTML", "text": "plain text"}.get(self.part, self.part)
        said = " ".join(word for word in (part, self.name) if word)
        said += f", line {self.line}" if self.line else ""
        more = len(self.others) + self.more
        return f"{said}, and {more} {'place' if more == 1 else 'places'} more" if more else said

    @property
    def elements(self) -> list[int]:
        """The elements of all its places, each once."""
        found = (self.element, *(place["element"] for place in self.others))
        return list(dict.fromkeys(element for element in found if element is not None))

    def at_place(self, number: int) -> FindingRecord:
        """Itself as it stands at one of its places, counted from 0; not to be saved."""
        shown = copy(self)
        for name, value in (self.others[number - 1] if number else {}).items():
            setattr(shown, name, value)
        if (fault := self._fault(number)) is not None:
            each = self.data.get("each", {})
            shown.data = {**self.data, **{name: values[fault] for name, values in each.items() if fault < len(values)}}
        return shown

    def fault_at(self, number: int) -> tuple[str, str] | None:
        """Sentence and mend of the fault at one of its places, counted from 0; None where it is one fault."""
        fault = self._fault(number)
        return (self.faults[fault][0], self.faults[fault][1]) if fault is not None else None

    def values(self, name: str) -> list[Any]:
        """The value of this name in the data of each fault, such as its address; empty where the check gives no such value."""
        if name in self.data:
            return [self.data[name]]
        return list(self.data.get("each", {}).get(name, ()))

    def _fault(self, place: int) -> int | None:
        before = 0
        for number, (_, _, _, places) in enumerate(self.faults):
            before += places
            if place < before:
                return number
        return None


class Excuse(models.Model):
    """A finding accepted with a reason. It holds for its fingerprint: for this revision only, or while the thing stays as it is.

    A finding may tell several faults of one cause. ``members`` then maps the fingerprint of each excused fault to its number of places, and
    the excuse holds for these faults in these places or fewer. With ``for_all`` the excuse holds for every fault of the cause.
    """

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="excuses")
    check_id = models.CharField(max_length=60)
    fingerprint = models.CharField(max_length=16)
    members = models.JSONField(default=dict)
    for_all = models.BooleanField(default=False)
    only_revision = models.ForeignKey(Revision, null=True, blank=True, on_delete=models.CASCADE, related_name="+")
    reason = models.CharField(max_length=500)
    sentence = models.TextField()
    level = models.CharField(max_length=4)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)
    lifted_at = models.DateTimeField(null=True, blank=True)
    #: Whether the person was an approver then; who confirmed it, where the rule of sign-off asks for a second person.
    by_approver = models.BooleanField(default=False)
    confirmed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    confirmed_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint("mailing", "fingerprint", condition=Q(lifted_at=None), name="one_excuse_in_force"),
            models.CheckConstraint(condition=~Q(reason=""), name="excuse_has_a_reason"),
        ]

    def __str__(self) -> str:
        return f"{self.check_id}: {self.reason}"


class StationLook(models.Model):
    """Somebody says that a station of a revision has been looked at, or why it is left out; ``left_out`` is empty for a look."""

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="looks")
    station = models.CharField(max_length=20)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)
    left_out = models.CharField(max_length=300, blank=True, default="")

    class Meta:
        constraints = [models.UniqueConstraint("revision", "station", name="looked_at_once")]

    def __str__(self) -> str:
        return f"{self.station} of {self.revision}"


class PictureWords(models.Model):
    """The words that stand in one picture of a house, by the digest of its content, or of its address where that is all that is known.

    ``read`` is what a program read, ``reader`` its name, empty where none has been asked. ``entered`` is what a person says instead,
    ``by`` is that person, null where nobody did.
    """

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="+")
    picture = models.CharField(max_length=64)
    read = models.TextField(blank=True)
    reader = models.CharField(max_length=80, blank=True)
    entered = models.TextField(blank=True)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, null=True, blank=True, related_name="+")
    at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "picture", name="words_of_a_picture_once")]

    def __str__(self) -> str:
        return f"words in {self.picture[:8]}"

    @property
    def value(self) -> Words | None:
        """The words that hold: a person's words before a program's; None where nobody has read the picture."""
        if self.by_id is not None:
            return Words(self.entered)
        return Words(self.read, self.reader) if self.reader else None


class PicturesRead(models.Model):
    """The pictures of a revision whose words were asked for, by their digests, and one value for what they say."""

    revision = models.OneToOneField(Revision, on_delete=models.CASCADE, related_name="pictures_read")
    pictures = models.JSONField(default=list)
    key = models.CharField(max_length=64)

    class Meta:
        verbose_name_plural = "pictures read"

    def __str__(self) -> str:
        return f"words in the pictures of {self.revision}"


class SenderPapers(models.Model):
    """The name records of a revision's sender, as they were when they were asked; ``papers`` is what ``Papers.as_json`` gives.

    ``asked_for`` holds the domain, selector and servers that the workspace named then, and the resolver that was asked.
    """

    revision = models.OneToOneField(Revision, on_delete=models.CASCADE, related_name="sender_papers")
    papers = models.JSONField(default=dict)
    asked_for = models.JSONField(default=dict)
    at = models.DateTimeField(auto_now=True)

    class Meta:
        verbose_name_plural = "sender papers"

    def __str__(self) -> str:
        return f"sender's papers of {self.revision}"


class LighterFile(models.Model):
    """A file that may stand for a picture of a house, made for a width at which the picture is shown, in CSS px; the rest as in ``Candidate``.

    ``picture`` is the digest of the picture's content.
    """

    BLOBS = ("blob_sha256",)

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="+")
    picture = models.CharField(max_length=64)
    shown_width = models.PositiveIntegerField()
    form = models.CharField(max_length=12)
    quality = models.PositiveIntegerField()
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    octets = models.PositiveIntegerField()
    likeness = models.FloatField()
    blob_sha256 = models.CharField(max_length=64)

    class Meta:
        ordering = ["-width", "form", "-quality"]
        constraints = [
            models.UniqueConstraint("workspace", "picture", "shown_width", "form", "quality", "width", name="one_lighter_file_of_a_kind")
        ]

    def __str__(self) -> str:
        return f"{self.form} of {self.width} px for {self.picture[:8]}"


class ChosenFile(models.Model):
    """The file that somebody chose for a picture of a revision; none where the picture is to stay as it is."""

    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="chosen_files")
    picture = models.CharField(max_length=64)
    file = models.ForeignKey(LighterFile, null=True, on_delete=models.CASCADE, related_name="+")

    class Meta:
        constraints = [models.UniqueConstraint("revision", "picture", name="one_choice_for_a_picture")]

    def __str__(self) -> str:
        return f"choice for {self.picture[:8]} of {self.revision}"


class ReadinessFacts(models.Model):
    """Counts of a revision that its readiness follows from: rows of a view of the database, which counts when it is asked.

    A migration that changes a column which the view reads drops the view first and makes it anew.
    """

    revision = models.OneToOneField(Revision, primary_key=True, on_delete=models.DO_NOTHING, related_name="facts")
    is_checked = models.BooleanField()
    #: Work on the revision waits or runs.
    is_busy = models.BooleanField()
    #: Checks that looked at nothing to the end.
    unlooked = models.PositiveIntegerField()
    #: Findings of each level that no excuse covers.
    stops = models.PositiveIntegerField()
    fixes = models.PositiveIntegerField()
    notes = models.PositiveIntegerField()
    #: The stations that somebody looked at and those that were left out, without Sign-off; how many of the first have no open stop or fix.
    looked_at = ArrayField(models.CharField(max_length=20))
    left_out = ArrayField(models.CharField(max_length=20))
    clear = models.PositiveIntegerField()
    #: Open threads of comments.
    comments = models.PositiveIntegerField()
    #: Excuses of stops and fixes that cover a finding and that nobody confirmed: all, and those that no approver made.
    unconfirmed = models.PositiveIntegerField()
    unconfirmed_of_reviewers = models.PositiveIntegerField()
    #: The number of the newest revision, where it is a later one.
    newer = models.PositiveIntegerField(null=True)
    #: The checks wait or run.
    is_checking = models.BooleanField()

    class Meta:
        managed = False
        verbose_name_plural = "facts of readiness"

    def __str__(self) -> str:
        return f"readiness of revision {self.revision_id}"
