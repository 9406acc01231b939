"""Fixtures of the tests of the apps."""

from __future__ import annotations

from typing import Any

import pytest

from jetwind.engines.mail import Delivery, Handover, HandoverOutcome
from tests.apps.helpers import Post


@pytest.fixture
def post(monkeypatch: pytest.MonkeyPatch) -> Post:
    """The way out, ending in a list and in the Mailroom's own service; the engine's SMTP has tests of its own."""
    from jetwind.apps.proofs import handing_over, services

    sent: Post = []

    def hand_over(server: Any, sender: str, recipient: str, content: bytes) -> Handover:
        sent.append((sender, recipient, content))
        services.keep_arrival(Delivery(sender, (recipient,), content))
        return Handover(HandoverOutcome.TAKEN, "250 Kept")

    monkeypatch.setattr(handing_over, "hand_over", hand_over)
    return sent
