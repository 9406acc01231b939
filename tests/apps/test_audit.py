"""The chain of the log, and its catalogue."""

from typing import Any

import pytest
from django.db import connection

from jetwind.apps.audit.actions import ACTIONS
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.audit.services import first_broken_entry, record
from jetwind.apps.blobs import store


class TestChain:
    """Each entry holds the hash of the one before."""

    def test_a_whole_chain_holds(self, house: Any) -> None:
        """Entries follow from one another."""
        for number in range(3):
            record("mailing.changed", actor=house.author, mailing_id=1, fields=str(number))
        assert first_broken_entry() is None
        entries = list(LogEntry.objects.all())
        assert [entry.previous_hash for entry in entries[1:]] == [entry.hash for entry in entries[:-1]]

    @pytest.mark.parametrize("change", ['data = \'{"fields": "other"}\'', "actor_id = null", "action = 'mailing.copied'", "at = now()"])
    def test_a_change_behind_the_database_rules_is_noticed(self, house: Any, change: str) -> None:
        """Somebody with the superuser's rights switched the trigger off; the chain tells."""
        for number in range(3):
            record("mailing.changed", actor=house.author, mailing_id=1, fields=str(number))
        second = LogEntry.objects.all()[1]
        with connection.cursor() as cursor:
            cursor.execute("set session_replication_role = replica")
            cursor.execute(f"update audit_logentry set {change} where id = %s", [second.pk])
            cursor.execute("set session_replication_role = origin")
        assert first_broken_entry() == second

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
                "revision.added",
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
                "finding.excused",
                "finding.excuse-lifted",
                "review.sent-back",
                "proof.sent",
                "proof.sent-again",
                "approval.signed",
                "approval.voided",
                "approval.cleared",
                "approval.released",
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
