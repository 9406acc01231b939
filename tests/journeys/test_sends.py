"""Test sends while parts of Jetwind die: every address gets its copy, and gets it once."""

import time
from collections import Counter
from typing import Any

from jetwind.apps.proofs import services
from jetwind.apps.proofs.models import Arrival, TestAddress, TestCopy
from tests.apps.helpers import taken_in
from tests.factories import mail
from tests.journeys.conftest import wait_until

COPIES = 24


def send(house: Any) -> None:
    """A test send to many addresses."""
    house.test_list.addresses.all().delete()
    TestAddress.objects.bulk_create(TestAddress(list=house.test_list, address=f"n{number}@kiln.org") for number in range(COPIES))
    services.send_test(house.reviewer, taken_in(house, mail()), house.test_list, None)


def arrived() -> Counter[str]:
    """How many copies each address got."""
    return Counter(arrival.recipients[0] for arrival in Arrival.objects.all())


def test_the_worker_is_killed_again_and_again(house: Any, start_worker: Any, mailroom: Any) -> None:
    """Each time at another moment; the next worker goes on where it stood."""
    send(house)
    for number in range(4):
        worker = start_worker()
        before = sum(arrived().values())
        wait_until(lambda before=before: sum(arrived().values()) > before, "a copy's arrival")
        time.sleep(0.013 * number)
        worker.kill()
    start_worker()
    wait_until(lambda: not TestCopy.objects.exclude(state="handed-over").exists(), "every hand-over", 90)
    assert arrived() == Counter({f"n{number}@kiln.org": 1 for number in range(COPIES)})


def test_the_mailroom_comes_late(house: Any, start_worker: Any, start_mailroom: Any) -> None:
    """Nobody listens, then a Mailroom that is killed, then another: nothing is lost and nothing comes twice."""
    send(house)
    start_worker()
    wait_until(lambda: TestCopy.objects.filter(state="put-off").exists(), "a copy that finds no server")
    room = start_mailroom()
    wait_until(lambda: sum(arrived().values()) > 3, "some copies' arrival", 90)
    room.kill()
    start_mailroom()
    wait_until(lambda: not TestCopy.objects.exclude(state="handed-over").exists(), "every hand-over", 120)
    assert arrived() == Counter({f"n{number}@kiln.org": 1 for number in range(COPIES)})
