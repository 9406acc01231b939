"""Test lists, test sends with their copies, and what arrived in the Mailroom."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.db.models import Q
from django.utils import timezone

from jetwind.apps.comments.models import Thread
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.previews.models import Render
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.core.arrivals import said_of, status_in


class TestList(models.Model):
    """Colleagues who get test sends. A workspace may have a usual one, which the form for a new test send begins with."""

    __test__ = False  # not a test case, whatever its name says

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="test_lists")
    name = models.CharField(max_length=80)
    is_usual = models.BooleanField(default=False)

    class Meta:
        constraints = [
            models.UniqueConstraint("workspace", "name", name="one_list_of_a_name"),
            models.UniqueConstraint("workspace", condition=Q(is_usual=True), name="one_list_is_usual"),
        ]

    def __str__(self) -> str:
        return self.name


class TestAddress(models.Model):
    """A person of a test list, with an address.

    ``reader`` is the sample reader whose copy the person gets by default; ``devices`` are the devices and programs on which the person reads
    mail, in words of the person's own.
    """

    __test__ = False

    list = models.ForeignKey(TestList, on_delete=models.CASCADE, related_name="addresses")
    address = models.EmailField()
    name = models.CharField(max_length=120, blank=True)
    reader = models.ForeignKey(SampleReader, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    devices = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("list", "address", name="one_address_in_a_list")]

    def __str__(self) -> str:
        return self.address


class OwnMailServer(models.Model):
    """A mail server of a team's own, by which its test sends may go out.

    ``sealed_password`` is what ``sealing.seal`` gives; empty where nobody signs in. A server that was removed is kept without its password,
    since sends name it. ``tested`` is the last connection test, step by step.
    """

    class Security(models.TextChoices):
        STARTTLS = "starttls", "STARTTLS after the greeting"
        TLS = "tls", "TLS from the start"

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="mail_servers")
    name = models.CharField(max_length=80)
    host = models.CharField(max_length=253)
    port = models.PositiveIntegerField(default=587, validators=[MinValueValidator(1), MaxValueValidator(65_535)])
    security = models.CharField(max_length=10, choices=Security, default=Security.STARTTLS)
    user = models.CharField(max_length=200, blank=True)
    sealed_password = models.TextField(blank=True)
    #: Messages a minute; null where there is no limit. The next message goes at ``next_at`` at the earliest.
    per_minute = models.PositiveSmallIntegerField(null=True, blank=True, validators=[MinValueValidator(1), MaxValueValidator(600)])
    next_at = models.DateTimeField(null=True, blank=True)
    #: Test sends of the workspace go out by this one.
    is_chosen = models.BooleanField(default=False)
    tested = models.JSONField(null=True, blank=True)
    tested_at = models.DateTimeField(null=True, blank=True)
    removed_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint("workspace", "name", condition=Q(removed_at=None), name="one_mail_server_of_a_name"),
            models.UniqueConstraint("workspace", condition=Q(is_chosen=True), name="one_mail_server_is_chosen"),
            models.CheckConstraint(condition=Q(is_chosen=False) | Q(removed_at=None), name="no_removed_mail_server_is_chosen"),
        ]

    def __str__(self) -> str:
        return self.name


class TestSend(models.Model):
    """A revision sent to a test list. Without ``server`` it goes by the installation's own way out.

    Nothing goes before ``planned_at``. ``base`` is Jetwind's own address, under which the answer pages and the exchanged unsubscribe addresses
    lie. ``leaves_addresses`` says that the message's own unsubscribe addresses were sent unchanged.
    """

    __test__ = False

    mailing = models.ForeignKey(Mailing, on_delete=models.CASCADE, related_name="test_sends")
    revision = models.ForeignKey(Revision, on_delete=models.CASCADE, related_name="test_sends")
    list_name = models.CharField(max_length=80)
    mark = models.CharField(max_length=40, blank=True)
    planned_at = models.DateTimeField(null=True, blank=True)
    base = models.CharField(max_length=200, blank=True)
    leaves_addresses = models.BooleanField(default=False)
    server = models.ForeignKey(OwnMailServer, null=True, blank=True, on_delete=models.PROTECT, related_name="sends")
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)

    #: The people who were asked, with their answers, where a page has asked for them along with the send.
    asked: list[Any]
    #: The pictures of screens that show its copies, likewise.
    screens: list[Any]

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"test of {self.revision} to {self.list_name}"

    @property
    def is_planned(self) -> bool:
        """Whether its time has not come yet."""
        return self.planned_at is not None and self.planned_at > timezone.now()


@dataclass(frozen=True, slots=True)
class ArrivalShown:
    """An arrival beside its copy: its number, when it came, whether it was compared, and how many differences there are."""

    pk: int
    at: datetime
    is_compared: bool
    differences: int


class ReportKind(models.TextChoices):
    """The kinds of report that machines write about a copy."""

    BOUNCED = "bounced", "bounced"
    DELAYED = "delayed", "delayed on the way"
    COMPLAINED = "complained", "complained about"
    ANSWERED = "answered", "answered by a machine"


@dataclass(frozen=True, slots=True)
class ReportShown:
    """A report beside its copy: its number, when it came, its kind, its status code and the words of the machine that wrote it."""

    pk: int
    at: datetime
    kind: ReportKind
    status: str
    words: str

    @property
    def reason(self) -> str:
        """The status code in words; empty where there is none that is known."""
        return said_of(self.status)


class TestCopy(models.Model):
    """One message of a test send: to exactly one address, for one sample reader, with one of the subjects.

    ``variant`` is the number of the subject among those of the message, 0 for the first. ``person`` is the name of the recipient. A note
    with the link to the answer page goes the same way, and so does a reminder, whose ``variant`` counts the reminders.
    ``copy_sha256`` is the digest of the copy as it was handed over last; empty before.
    """

    __test__ = False
    BLOBS = ("copy_sha256",)

    class State(models.TextChoices):
        WAITING = "waiting", "waiting"
        ON_ITS_WAY = "on-its-way", "being handed over"
        HANDED_OVER = "handed-over", "handed over"
        PUT_OFF = "put-off", "put off"
        UNSURE = "unsure", "no answer came"
        REFUSED = "refused", "refused"
        CANCELLED = "cancelled", "cancelled"

    class Purpose(models.TextChoices):
        COPY = "copy"
        NOTE = "note"
        REMINDER = "reminder"

    send = models.ForeignKey(TestSend, on_delete=models.CASCADE, related_name="copies")
    purpose = models.CharField(max_length=10, choices=Purpose, default=Purpose.COPY)
    address = models.EmailField()
    person = models.CharField(max_length=120, blank=True)
    devices = models.CharField(max_length=200, blank=True)
    reader_name = models.CharField(max_length=120, blank=True)
    values = models.JSONField(default=dict)
    variant = models.PositiveSmallIntegerField(default=0)
    message_id = models.CharField(max_length=120, unique=True)
    state = models.CharField(max_length=12, choices=State, default=State.WAITING)
    answer = models.CharField(max_length=500, blank=True)
    copy_sha256 = models.CharField(max_length=64, blank=True)
    handed_over_at = models.DateTimeField(null=True, blank=True)
    #: Tries that were put off or found no server, when the first of them was, and when the next one is due.
    tries = models.PositiveSmallIntegerField(default=0)
    first_try_at = models.DateTimeField(null=True, blank=True)
    next_try_at = models.DateTimeField(null=True, blank=True)

    #: Every arrival, the newest first, and every report on the last hand-over, where a page has asked for them along with the copy.
    arrived: list[ArrivalShown]
    reported: list[ReportShown]
    pressed: list[WayOutPress]

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint("send", "purpose", "address", "reader_name", "variant", name="one_copy_of_a_kind_an_address")
        ]

    def __str__(self) -> str:
        return f"copy to {self.address}"

    @property
    def reason(self) -> str:
        """The status code of the server's answer in words; empty where there is none that is known."""
        return said_of(status_in(self.answer))


class ReplyLink(models.Model):
    """A link by which one recipient of one test send answers without an account. ``nonce`` is part of the signed token."""

    send = models.ForeignKey(TestSend, on_delete=models.CASCADE, related_name="reply_links")
    address = models.EmailField()
    person = models.CharField(max_length=120, blank=True)
    devices = models.CharField(max_length=200, blank=True)
    nonce = models.CharField(max_length=32)
    expires_at = models.DateTimeField()
    withdrawn_at = models.DateTimeField(null=True, blank=True)
    reminded_at = models.DateTimeField(null=True, blank=True)
    reminders = models.PositiveSmallIntegerField(default=0)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("send", "address", name="one_reply_link_an_address")]

    def __str__(self) -> str:
        return f"link of {self.address}"

    @property
    def is_open(self) -> bool:
        """Whether the person may still answer."""
        return self.withdrawn_at is None and self.expires_at > timezone.now()

    @property
    def name(self) -> str:
        """The person's name, or the address."""
        return self.person or self.address

    @property
    def own_devices(self) -> list[str]:
        """The person's devices, one by one, as the test list has them."""
        return [device for part in self.devices.split(";") if (device := part.strip())]


class Reply(models.Model):
    """An answer of a recipient: whether the copy looks right, words, the device, and the place of a tap in per cent of ``render``."""

    link = models.ForeignKey(ReplyLink, on_delete=models.CASCADE, related_name="replies")
    looks_right = models.BooleanField()
    words = models.TextField(max_length=2000, blank=True)
    device = models.CharField(max_length=120, blank=True)
    render = models.ForeignKey(Render, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    left = models.FloatField(null=True, blank=True)
    top = models.FloatField(null=True, blank=True)
    thread = models.ForeignKey(Thread, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    client = models.CharField(max_length=200, blank=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"answer of {self.link.address}"

    @property
    def is_comment(self) -> bool:
        """Whether it says more than that everything looks right."""
        return not self.looks_right or bool(self.words) or self.left is not None


class ReplyPhoto(models.Model):
    """A photo of an answer, made anew from its pixels."""

    BLOBS = ("blob_sha256",)

    reply = models.ForeignKey(Reply, on_delete=models.CASCADE, related_name="photos")
    blob_sha256 = models.CharField(max_length=64)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"photo of {self.reply}"


class Letter(models.Model):
    """A mail of Jetwind's own to a person of the house, on its way by the mail server of the workspace."""

    BLOBS = ("blob_sha256",)

    class State(models.TextChoices):
        WAITING = "waiting"
        ON_ITS_WAY = "on-its-way"
        HANDED_OVER = "handed-over"
        REFUSED = "refused"
        UNSURE = "unsure"

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="+")
    to = models.EmailField()
    blob_sha256 = models.CharField(max_length=64)
    state = models.CharField(max_length=12, choices=State, default=State.WAITING)
    answer = models.CharField(max_length=500, blank=True)
    tries = models.PositiveSmallIntegerField(default=0)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"letter to {self.to}"


class ContentRender(models.Model):
    """A picture of a mail in a client profile: of a copy as it was handed over, or of what arrived. ``content_sha256`` is that of its octets."""

    BLOBS = ("blob_sha256",)

    class State(models.TextChoices):
        WAITING = "waiting"
        DONE = "done"
        FAILED = "failed"

    content_sha256 = models.CharField(max_length=64)
    profile = models.CharField(max_length=40)
    made_with = models.CharField(max_length=16, blank=True)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    problem = models.CharField(max_length=300, blank=True)
    blob_sha256 = models.CharField(max_length=64, blank=True)
    content_type = models.CharField(max_length=40, blank=True)
    width = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("content_sha256", "profile", name="one_render_of_a_mail_in_a_profile")]

    def __str__(self) -> str:
        return f"{self.content_sha256[:8]} in {self.profile}"


class Screenshot(models.Model):
    """A picture of a real screen that shows a copy, made anew from its pixels, and how it lies on the copy's render in a profile.

    ``is_named`` says that a person named the client; else the profile is the nearest by its width. ``top``, ``shown_height`` and ``areas``
    are in CSS px of the render, as ``images.aligned.Held`` has them; ``likeness`` is null before the two were held against each other.
    """

    BLOBS = ("blob_sha256",)

    copy = models.ForeignKey(TestCopy, on_delete=models.CASCADE, related_name="screenshots")
    profile = models.CharField(max_length=40)
    is_named = models.BooleanField(default=False)
    blob_sha256 = models.CharField(max_length=64)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)
    problem = models.CharField(max_length=300, blank=True)
    top = models.IntegerField(default=0)
    shown_height = models.PositiveIntegerField(default=0)
    likeness = models.FloatField(null=True, blank=True)
    share = models.FloatField(default=0)
    areas = models.JSONField(default=list)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"screen of {self.copy}"


class WayOutPress(models.Model):
    """A press on an exchanged unsubscribe address of a copy: where it stood, how it was pressed, and by which program from which address."""

    class Place(models.TextChoices):
        HEADER = "header", "in the List-Unsubscribe header"
        BODY = "body", "in the message"

    class How(models.TextChoices):
        ONE_CLICK = "one-click", "by one click of the mail program"
        PAGE = "page", "on its page"
        MAIL = "mail", "by a mail"

    copy = models.ForeignKey(TestCopy, on_delete=models.CASCADE, related_name="presses")
    place = models.CharField(max_length=8, choices=Place, blank=True)
    how = models.CharField(max_length=12, choices=How)
    client = models.CharField(max_length=200, blank=True)
    came_from = models.CharField(max_length=60, blank=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"{self.get_how_display()}, {self.get_place_display()}"


class Arrival(models.Model):
    """A message as the Mailroom received it, or as a person saved it from a mail program (``is_dropped``, by ``by``).

    ``compared`` is what ``Compared.as_json`` gives, null before the arrival was compared with its copy; ``not_compared`` says why it could
    not be. ``findings`` are rows of level, check, sentence, and whether the copy lacks it; null before the checks were asked about it.
    """

    BLOBS = ("blob_sha256",)

    sender = models.CharField(max_length=320, blank=True)
    recipients = models.JSONField(default=list)
    subject = models.CharField(max_length=998, blank=True)
    message_id = models.CharField(max_length=255, blank=True)
    blob_sha256 = models.CharField(max_length=64)
    octets = models.PositiveIntegerField()
    copy = models.ForeignKey(TestCopy, null=True, blank=True, on_delete=models.SET_NULL, related_name="arrivals")
    at = models.DateTimeField(auto_now_add=True)
    is_dropped = models.BooleanField(default=False)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    #: A report of a machine on a copy that was handed over: its kind, its status code (RFC 3463) and words of the machine.
    reports_on = models.ForeignKey(TestCopy, null=True, blank=True, on_delete=models.SET_NULL, related_name="reports")
    report = models.CharField(max_length=12, choices=ReportKind, blank=True)
    report_status = models.CharField(max_length=12, blank=True)
    report_words = models.CharField(max_length=300, blank=True)
    #: A report on a hand-over that another one followed.
    is_past = models.BooleanField(default=False)
    compared = models.JSONField(null=True, blank=True)
    not_compared = models.CharField(max_length=300, blank=True)
    findings = models.JSONField(null=True, blank=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.subject

    @property
    def about(self) -> TestCopy | None:
        """The copy that this mail is, or reports on; None for a stray."""
        return self.copy or self.reports_on

    @property
    def reason(self) -> str:
        """The status code of a report in words; empty where there is none that is known."""
        return said_of(self.report_status)
