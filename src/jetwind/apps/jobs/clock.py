"""Events that come by themselves: a time passes, or the machines change. Workers look after these; no page does."""

from __future__ import annotations

from django.db import transaction
from django.utils import timezone

from jetwind.apps.jobs.machines import known
from jetwind.apps.jobs.models import Clock
from jetwind.apps.ui.following import follows


@transaction.atomic
def look_after() -> bool:
    """Tell of the time that has passed since this was done last, and of machines that changed. False where another worker does it now.

    A worker that dies in the middle has told of nothing: the next one begins where it began.
    """
    now = timezone.now()
    Clock.objects.get_or_create(only=True, defaults={"looked_at": now})
    clock = Clock.objects.select_for_update(no_key=True, skip_locked=True).filter(only=True).first()
    if clock is None:
        return False
    machines = sorted([facts.checks_key, facts.renders_key, facts.reading] for facts in known())
    if machines != clock.machines:
        follows().machines_changed()
    follows().time_passed(clock.looked_at, now)
    clock.looked_at, clock.machines = now, machines
    clock.save()
    return True
