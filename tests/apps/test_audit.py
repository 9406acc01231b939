"""The chain of the log, and its catalogue."""

from datetime import timedelta
from typing import Any

import pytest
from django.core.management import CommandError, call_command
from django.db import connection
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.audit.actions import ACTIONS
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.audit.services import record, verified, verify
from jetwind.apps.blobs import store
from jetwind.apps.jobs.clock import look_after
from jetwind.apps.jobs.models import Clock


class TestChain:
    """Each entry holds the hash of the one before."""

    def test_a_whole_chain_holds(self, house: Any) -> None:
        """Entries follow from one another."""
        for number in range(3):
            record("mailing.changed", actor=house.author, house=house.workspace.pk, fields=str(number))
        assert (verify().broken, verify().entries) == (None, LogEntry.objects.count())
        entries = list(LogEntry.objects.filter(chain=house.workspace.pk))
        assert len(entries) == 3
        assert [entry.previous_hash for entry in entries[1:]] == [entry.hash for entry in entries[:-1]]

    @pytest.mark.parametrize(
        "change",
        ['data = \'{"fields": "other"}\'', "actor_id = null", "action = 'mailing.copied'", "at = now()", "chain = 0", "workspace_id = 0"],
    )
    def test_a_change_behind_the_database_rules_is_noticed(self, house: Any, change: str) -> None:
        """Somebody with the superuser's rights switched the trigger off; the chain tells."""
        for number in range(3):
            record("mailing.changed", actor=house.author, house=house.workspace.pk, fields=str(number))
        second = LogEntry.objects.all()[1]
        with connection.cursor() as cursor:
            cursor.execute("set session_replication_role = replica")
            cursor.execute(f"update audit_logentry set {change} where id = %s", [second.pk])
            cursor.execute("set session_replication_role = origin")
        assert verify().broken == second.pk
        page = house.client(house.reviewer).get("/settings/").content.decode()
        assert f"The log does not hold from entry {second.pk} on" in page
        with pytest.raises(CommandError, match=f"from entry {second.pk} on"):
            call_command("verify_log")

    def test_opening_settings_verifies_nothing(self, house: Any) -> None:
        """The page says when a worker did; the command does it at once."""
        client = house.client(house.reviewer)
        assert "The log has not been verified yet" in client.get("/settings/").content.decode()
        assert verified() is None
        call_command("verify_log")
        assert "The log was whole when it was verified last" in client.get("/settings/").content.decode()

    def test_workers_verify_it_every_hour(self, house: Any) -> None:
        """The first time that one looks at the clock, and whenever an hour has begun; not in between."""
        waiting = ProcrastinateJob.objects.filter(task_name="audit.verify_log")
        look_after()
        assert waiting.count() == 1
        verify()
        look_after()
        assert waiting.count() == 1
        Clock.objects.update(looked_at=timezone.now() - timedelta(hours=1))
        look_after()
        assert waiting.count() == 2

    def test_only_known_actions_with_their_data(self, house: Any) -> None:
        """A typing slip fails when written, not when read."""
        with pytest.raises(ValueError, match="does not know"):
            record("mailing.eaten", actor=house.author)
        with pytest.raises(ValueError, match="needs 'fields'"):
            record("mailing.changed", actor=house.author)

    def test_actions_are_a_contract(self) -> None:
        """Entries stay, so their actions do."""
        assert sorted(ACTIONS) == sorted(
            [
                "mailing.taken-in",
                "people.took-invitation",
                "review.rechecked-longer",
                "account.link-mailed",
                "account.link-by-administrator",
                "account.address-proven",
                "domain.proven",
                "mailing.copied",
                "mailing.changed",
                "mailing.labelled",
                "mailing.deadline",
                "mailing.deadline-taken-off",
                "mailing.given",
                "mailing.given-to-nobody",
                "mailing.label-taken-off",
                "revision.added",
                "revision.mended",
                "envelope.changed",
                "review.started",
                "review.rechecked",
                "link.let-open",
                "link.seen",
                "link.seen-taken-back",
                "picture.words-entered",
                "picture.file-chosen",
                "station.looked",
                "station.look-taken-back",
                "mark.set",
                "mark.settled",
                "comment.made",
                "comment.settled",
                "comment.opened-again",
                "instruction.ticked",
                "instruction.unticked",
                "finding.excused",
                "finding.excuse-lifted",
                "review.sent-back",
                "proof.sent",
                "proof.arrival-kept",
                "proof.screenshot-kept",
                "proof.answered",
                "proof.reminded",
                "proof.link-withdrawn",
                "proof.cancelled",
                "proof.sent-again",
                "approval.signed",
                "approval.taken-back",
                "approval.voided",
                "approval.cleared",
                "approval.released",
                "approval.refused",
                "approval.handed-on",
                "approval.condition-met",
                "approval.condition-open",
                "approval.held",
                "approval.stood-in",
                "approval.stand-in-ended",
                "approval.release-taken-back",
                "set.changed",
                "set.made",
                "set.removed",
                "station.left-out",
                "finding.excuse-confirmed",
                "workspace.changed",
                "workspace.made",
                "people.invited",
                "people.invitation-withdrawn",
                "people.joined",
                "people.changed",
                "people.deactivated",
                "people.reactivated",
                "account.changed",
                "account.link-made",
            ]
        )


class TestBlobs:
    """Bytes by their digest."""

    def test_kept_once_and_fetched(self, db: None) -> None:
        """The same bytes give the same digest; what is not there is named."""
        digest = store.keep(b"bowl")
        assert store.keep(b"bowl") == digest
        assert store.fetch(digest) == b"bowl"
        with pytest.raises(store.BlobMissing):
            store.fetch("0" * 64)
