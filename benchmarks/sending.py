"""A test send to fifty people, against fifty bare hand-overs of the same octets by SMTP.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.sending
"""

from __future__ import annotations

import asyncio
import threading

from benchmarks.common import compare, own_house
from jetwind.engines.mail import Delivery, Mailroom, MailServer, hand_over
from tests.factories import GOOD_HTML, mail, picture

PEOPLE = 50


class Room:
    """A mail server that takes everything and keeps nothing but the last mail."""

    def __init__(self) -> None:
        self.last: Delivery | None = None
        self._loop = asyncio.new_event_loop()
        self._room = Mailroom(self._keep)
        threading.Thread(target=self._loop.run_forever, daemon=True).start()
        asyncio.run_coroutine_threadsafe(self._room.start(), self._loop).result(5)
        self.port = self._room.port

    def _keep(self, delivery: Delivery) -> None:
        self.last = delivery


def main() -> None:
    """Print the row. Both sides talk to the same server, which keeps nothing."""
    room = Room()
    with own_house(JETWIND_SMTP_HOST="127.0.0.1", JETWIND_SMTP_PORT=str(room.port)):
        from jetwind.apps.accounts.models import User
        from jetwind.apps.intake.services import take_in
        from jetwind.apps.jobs.services import latest
        from jetwind.apps.proofs import services
        from jetwind.apps.proofs.models import TestAddress, TestCopy, TestList
        from jetwind.apps.proofs.tasks import send_copies
        from jetwind.apps.workspace.models import Membership, Workspace

        workspace = Workspace.objects.create(name="Kiln", test_domains=["kiln.org"], test_sender="test@kiln.org")
        user = User.objects.create_user("rosa", "rosa@kiln.org", "a-long-password")
        Membership.objects.create(workspace=workspace, user=user, roles=["reviewer", "author"])
        people = TestList.objects.create(workspace=workspace, name="Team")
        TestAddress.objects.bulk_create(TestAddress(list=people, address=f"p{number}@kiln.org") for number in range(PEOPLE))
        html = GOOD_HTML.replace("</h1>", "</h1>" + "<p>Sentence about pots and glazes on the quay.</p>" * 900)
        mailing = take_in(user, workspace, mail(html, images={"bowl": picture(600, 300)}), "a.eml")
        revision = mailing.revisions.get()

        def own() -> None:
            send = services.send_test(user, revision, people)
            work = latest(services.SENDS, f"send:{send.pk}")
            assert work is not None
            send_copies.func(send_id=send.pk, work_id=work.pk)
            assert send.copies.filter(state=TestCopy.State.HANDED_OVER).count() == PEOPLE

        own()
        assert room.last is not None
        octets = room.last.content
        server = MailServer("127.0.0.1", room.port)

        def bare() -> None:
            for number in range(PEOPLE):
                hand_over(server, "test@kiln.org", f"p{number}@kiln.org", octets)

        compare(f"a test send to {PEOPLE} people, {len(octets) // 1024} KB each", f"{PEOPLE} bare hand-overs", bare, own, 2)


if __name__ == "__main__":
    main()
