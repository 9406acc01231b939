"""Unsubscribe addresses of Jetwind's own, which stand in test copies so that a test unsubscribes nobody, and prove that the way out works."""

from __future__ import annotations

from django.core.signing import BadSignature, Signer
from django.db import transaction
from django.urls import reverse

from jetwind.apps.proofs.models import TestCopy, WayOutPress
from jetwind.core.arrivals.composing import OwnWaysOut

_SIGNER = Signer(salt="jetwind.way-out")
#: Presses of one copy that are noted.
MOST_PRESSES = 20


def own_ways_out(base: str, copy: TestCopy, mailbox: str) -> OwnWaysOut:
    """The addresses for a copy, under Jetwind's own address ``base``; mail to ``mailbox`` leads to the copy, too."""

    def page(place: WayOutPress.Place) -> str:
        return f"{base}{reverse('way-out', args=[_SIGNER.sign(str(copy.pk)), place.value])}"

    return OwnWaysOut(page(WayOutPress.Place.HEADER), page(WayOutPress.Place.BODY), mailbox)


def copy_of(token: str) -> TestCopy | None:
    """The copy in which an address with this token stands; None for a token that is not ours."""
    try:
        number = int(_SIGNER.unsign(token))
    except (BadSignature, ValueError):
        return None
    return TestCopy.objects.select_related("send__mailing").filter(pk=number).first()


@transaction.atomic
def note(copy: TestCopy, place: str, how: WayOutPress.How, *, client: str = "", came_from: str = "") -> None:
    """Note a press; the first so many of a copy. The row of the copy is the lock."""
    TestCopy.objects.select_for_update(no_key=True).get(pk=copy.pk)
    if copy.presses.count() < MOST_PRESSES:
        WayOutPress.objects.create(copy=copy, place=place, how=how, client=_line(client, 200), came_from=_line(came_from, 60))


def _line(text: str, most: int) -> str:
    """A text that a stranger sent, as one line of printable characters."""
    return "".join(char if char.isprintable() else " " for char in text[:most])
