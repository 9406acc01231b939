"""Test lists, test sends with their copies, and what arrived in the Mailroom."""

from __future__ import annotations

from datetime import datetime

from django.conf import settings
from django.db import models

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.models import Workspace


class TestList(models.Model):
    """Colleagues who get test sends."""

    __test__ = False  # not a test case, whatever its name says

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="test_lists")
    name = models.CharField(max_length=80)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "name", name="one_list_of_a_name")]

    def __str__(self) -> str:
        return self.name


class TestAddress(models.Model):
    """One address of a test list."""

    __test__ = False

    list = models.ForeignKey(TestList, on_delete=models.CASCADE, related_name="addresses")
    address = models.EmailField()

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("list", "address", name="one_address_in_a_list")]

    def __str__(self) -> str:
        return self.address


class TestSend(models.Model):
    """A revision sent to a test list, merged for one sample reader."""

    __test__ = False

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="test_sends")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="test_sends")
    list_name = models.CharField(max_length=80)
    reader_name = models.CharField(max_length=120, blank=True)
    values = models.JSONField(default=dict)
    mark = models.CharField(max_length=40)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"test of {self.revision} to {self.list_name}"


class TestCopy(models.Model):
    """One message of a test send: to exactly one address."""

    __test__ = False

    class State(models.TextChoices):
        WAITING = "waiting", "waiting"
        ON_ITS_WAY = "on-its-way", "being handed over"
        HANDED_OVER = "handed-over", "handed over"
        PUT_OFF = "put-off", "put off"
        UNSURE = "unsure", "no answer came"
        REFUSED = "refused", "refused"

    send = models.ForeignKey(TestSend, on_delete=models.CASCADE, related_name="copies")
    address = models.EmailField()
    message_id = models.CharField(max_length=120, unique=True)
    state = models.CharField(max_length=12, choices=State, default=State.WAITING)
    answer = models.CharField(max_length=500, blank=True)
    handed_over_at = models.DateTimeField(null=True, blank=True)
    #: Tries that were put off or found no server, when the first of them was, and when the next one is due.
    tries = models.PositiveSmallIntegerField(default=0)
    first_try_at = models.DateTimeField(null=True, blank=True)
    next_try_at = models.DateTimeField(null=True, blank=True)

    #: Number and time of every arrival, the newest first, where a page has asked for them along with the copy.
    arrived: list[tuple[int, datetime]]

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("send", "address", name="one_copy_an_address")]

    def __str__(self) -> str:
        return f"copy to {self.address}"


class Arrival(models.Model):
    """A message as the Mailroom received it."""

    BLOBS = ("blob_sha256",)

    sender = models.CharField(max_length=320, blank=True)
    recipients = models.JSONField(default=list)
    subject = models.CharField(max_length=998, blank=True)
    message_id = models.CharField(max_length=255, blank=True)
    blob_sha256 = models.CharField(max_length=64)
    octets = models.PositiveIntegerField()
    copy = models.ForeignKey(TestCopy, null=True, blank=True, on_delete=models.SET_NULL, related_name="arrivals")
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.subject
