"""A team's house."""

from __future__ import annotations

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from jetwind.apps.accounts.models import validate_zone
from jetwind.apps.accounts.permissions import Role
from jetwind.core.fields import Syntax, described


def _names() -> list[str]:
    return []


class Workspace(models.Model):
    """Everything that a team shares. Test sends reach ``test_domains`` only."""

    name = models.CharField(max_length=80)
    field_list = ArrayField(models.CharField(max_length=60), default=_names, blank=True)
    practice_domains = ArrayField(models.CharField(max_length=120), default=_names, blank=True)
    test_domains = ArrayField(models.CharField(max_length=120), default=_names, blank=True)
    test_sender = models.EmailField(default="jetwind@localhost.invalid")
    #: Rules of sign-off as ``Rule.as_table`` gives them, by kind of message, and under "every" for the kinds that have none; empty for the usual rule.
    clearing = models.JSONField(default=dict, blank=True)
    check_settings = models.JSONField(default=dict, blank=True)
    #: The part of the calendar's address that makes it this one; empty where there is no address.
    calendar_nonce = models.CharField(max_length=24, blank=True)
    word_list = ArrayField(models.CharField(max_length=60), default=_names, blank=True)
    #: Per cent of the audience by client profile; empty where nobody said.
    audience = models.JSONField(default=dict, blank=True)
    rulebooks = ArrayField(models.CharField(max_length=40), default=_names, blank=True)
    #: The house's own rulebooks, each as ``rulebooks.as_table`` gives it.
    house_rulebooks = models.JSONField(default=list, blank=True)
    #: What signs and sends the house's mail: ``domain``, ``selector``, ``host``, ``return_path``; empty where nobody said.
    signing = models.JSONField(default=dict, blank=True)
    #: Whether the sending system turns ``<``, ``>``, ``&`` and quotes of a value into entities; Liquid does not by itself.
    escapes_values = models.BooleanField(default=False)
    #: A file with more readers looks like an audience.
    readers_of_a_file = models.PositiveSmallIntegerField(default=50, validators=[MinValueValidator(5), MaxValueValidator(500)])
    #: Which field the columns of the last files were taken for, by heading; an empty one was left out.
    reader_columns = models.JSONField(default=dict, blank=True)

    def __str__(self) -> str:
        return self.name


class FieldSyntax(models.Model):
    """A way of writing fields that a workspace describes by its marks. ``description`` is what ``fields.described`` takes."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="syntaxes")
    name = models.CharField(max_length=40)
    description = models.JSONField()

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("workspace", "name", name="one_syntax_of_a_name")]

    def __str__(self) -> str:
        return self.name

    @property
    def syntax(self) -> Syntax:
        """The syntax itself."""
        return described(self.description)


ROLE_CHOICES = [(role.value, role.value) for role in Role]


class Membership(models.Model):
    """A person's roles in a workspace. A deactivated one is kept, since sign-offs and the log name its person."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="memberships")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships")
    roles = ArrayField(models.CharField(max_length=20, choices=ROLE_CHOICES))
    deactivated_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "user", name="one_membership")]

    def __str__(self) -> str:
        return f"{self.user} in {self.workspace}"

    @property
    def is_active(self) -> bool:
        """Whether the person may still come in."""
        return self.deactivated_at is None


class Invitation(models.Model):
    """A link by which somebody joins a workspace, once. Only the hash of its token is kept."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="invitations")
    email = models.EmailField()
    roles = ArrayField(models.CharField(max_length=20, choices=ROLE_CHOICES))
    token_sha256 = models.CharField(max_length=64, unique=True)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField()
    accepted_at = models.DateTimeField(null=True, blank=True)
    accepted_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+")
    withdrawn_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"invitation of {self.email} to {self.workspace}"

    @property
    def is_open(self) -> bool:
        """Whether its link still lets somebody in."""
        return self.accepted_at is None and self.withdrawn_at is None and self.expires_at > timezone.now()


class ProvenDomain(models.Model):
    """A domain that is known to be a workspace's own. ``how`` says by what: a name record, or the administrator's word."""

    class How(models.TextChoices):
        RECORD = "record", "by a name record"
        ADMINISTRATOR = "administrator", "by the word of the administrator of this installation"

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="proven_domains")
    domain = models.CharField(max_length=253)
    how = models.CharField(max_length=20, choices=How)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["domain"]
        constraints = [models.UniqueConstraint("workspace", "domain", name="one_proof_of_a_domain")]

    def __str__(self) -> str:
        return f"{self.domain} of {self.workspace}"


class SampleReader(models.Model):
    """A made-up recipient with a value for each field."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="readers")
    name = models.CharField(max_length=120)
    email = models.EmailField(blank=True)
    time_zone = models.CharField(max_length=60, blank=True, validators=[validate_zone])
    values = models.JSONField(default=dict, blank=True)
    remark = models.CharField(max_length=160, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint("workspace", "name", name="one_reader_of_a_name")]

    def __str__(self) -> str:
        return self.name
