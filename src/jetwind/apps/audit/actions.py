"""Every action that the log knows, as a sentence over its data. Retired actions stay, since entries stay."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

ACTIONS: dict[str, str] = {
    "mailing.taken-in": "took in “{title}” from {file_name}",
    "mailing.copied": "started “{title}” as a copy of “{source}”",
    "mailing.changed": "changed {fields}",
    "mailing.labelled": "put the label “{label}” on it",
    "mailing.label-taken-off": "took the label “{label}” off it",
    "mailing.given": "gave the review to {who}",
    "mailing.given-to-nobody": "took the review from {who}",
    "mailing.deadline": "set the deadline for review to {until}",
    "mailing.deadline-taken-off": "took the deadline for review off",
    "revision.added": "added revision {revision} from {file_name}",
    "revision.mended": "took {count} mends into revision {revision}, of {checks}",
    "envelope.changed": "changed the envelope; revision {revision} came of it",
    "review.started": "took the message under review",
    "review.rechecked": "had revision {revision} checked again",
    "review.rechecked-longer": "had what ran out of time in revision {revision} checked again with a longer limit",
    "station.looked": "looked at {station} of revision {revision}",
    "station.look-taken-back": "took back the look at {station} of revision {revision}",
    "station.left-out": "left out {station} of revision {revision}: {reason}",
    "finding.excused": "excused {check}: {reason}",
    "finding.excuse-lifted": "lifted the excuse of {check}",
    "finding.excuse-confirmed": "confirmed the excuse of {check}",
    "mark.set": "set a mark on revision {revision}: {comment}",
    "mark.settled": "settled the mark: {comment}",
    "comment.made": "commented at {place} of revision {revision}: {words}",
    "comment.settled": "settled the comments at {place}",
    "comment.opened-again": "opened the comments at {place} again",
    "link.let-open": "let {address} be opened",
    "link.seen": "opened {address} by hand and found it in order",
    "link.seen-taken-back": "took back the look at {address}",
    "picture.words-entered": "said what stands in the picture {picture} of revision {revision}",
    "picture.file-chosen": "chose for the picture {picture} of revision {revision}: {file}",
    "review.sent-back": "sent revision {revision} back to the author: {comment}",
    "instruction.ticked": "ticked off instruction {number} for revision {revision}: {what}",
    "instruction.unticked": "took back the tick at instruction {number} for revision {revision}: {what}",
    "set.made": "made the set “{name}”, which expects {expected}",
    "set.changed": "changed the set “{name}”: {what}",
    "set.removed": "removed the set “{name}”",
    "proof.sent": "sent a test of revision {revision} to {count} addresses of “{list}”",
    "proof.arrival-kept": "kept a saved mail as what arrived of revision {revision} at {address}",
    "proof.screenshot-kept": "kept a picture of a screen of revision {revision} at {address}",
    "proof.answered": "{address} answered on the test of revision {revision}: {verdict}",
    "proof.reminded": "reminded {count} recipients of the test of revision {revision} to “{list}”",
    "proof.link-withdrawn": "withdrew the answer link of {address}, for the test of revision {revision}",
    "proof.cancelled": "cancelled {count} copies of the test of revision {revision} to “{list}”",
    "proof.sent-again": "had the test of revision {revision} sent to {address} again",
    "approval.signed": "signed off revision {revision}",
    "approval.taken-back": "took back the sign-off of revision {revision}: {reason}",
    "approval.voided": "sign-offs of revision {revision} became void: {reason}",
    "approval.refused": "refused revision {revision}: {reason}",
    "approval.handed-on": "handed the sign-off of revision {revision} on to {to}",
    "approval.condition-met": "the condition of the signature of {who} under revision {revision} is met: {condition}",
    "approval.condition-open": "the condition of the signature of {who} under revision {revision} is open again: {condition}",
    "approval.held": "could not release revision {revision}: {missing}",
    "approval.stood-in": "{stand_in} stands in for {who} from {since} until {until}",
    "approval.stand-in-ended": "{stand_in} no longer stands in for {who}",
    "approval.cleared": "revision {revision} is cleared",
    "approval.released": "released revision {revision}; the message is locked",
    "approval.release-taken-back": "took the release of revision {revision} back: {reason}",
    "workspace.changed": "changed {what}",
    "workspace.made": "made the workspace “{name}”",
    "people.invited": "invited {email} to {workspace} as {roles}",
    "people.invitation-withdrawn": "took back the invitation of {email} to {workspace}",
    "people.joined": "joined {workspace} as {roles}",
    "people.took-invitation": "took the invitation of {email} to {workspace}, as {roles}",
    "people.changed": "made {who} {roles} of {workspace}",
    "people.deactivated": "deactivated {who} in {workspace}",
    "people.reactivated": "let {who} into {workspace} again",
    "account.changed": "changed their own {fields}",
    "account.link-made": "made a link by which {who} sets a new password",
    "account.link-mailed": "had a link for a new password mailed to {who}",
    "account.link-by-administrator": "was given a link for a new password by the administrator of the installation",
    "account.address-proven": "is known by the address {address}, {how}",
    "domain.proven": "{domain} is known to be the domain of {workspace}, {how}",
}

#: Groups of actions by which the log is looked through: a name for addresses, words, and how the actions begin.
GROUPS: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("message", "messages and revisions", ("mailing.", "revision.", "envelope.", "set.")),
    ("review", "review", ("review.", "station.", "finding.", "mark.", "comment.", "link.", "picture.", "instruction.")),
    ("test-send", "test sends", ("proof.",)),
    ("sign-off", "sign-off and release", ("approval.",)),
    ("house", "the house and its people", ("workspace.", "people.", "account.", "domain.")),
)


def sentence(action: str, data: Mapping[str, Any]) -> str:
    """The sentence of an entry."""
    try:
        return ACTIONS[action].format(**data)
    except (KeyError, IndexError):
        return action
