"""``manage.py verify_store``: reads everything in the blob store, and says what is broken, missing or nobody's."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from django.apps import apps
from django.core.management.base import BaseCommand, CommandError

from jetwind.apps.blobs import store


class Command(BaseCommand):
    """Every file of the store against its name, and every digest that the database names against the store."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        """Walk the store, then the database.

        Raises:
            CommandError: something is broken or missing; each was named.
        """
        count, octets, broken = 0, 0, set()
        there = set()
        for digest in store.kept():
            count, octets = count + 1, octets + store.octets_of(digest)
            there.add(digest)
            try:
                store.fetch(digest)
            except store.BlobBroken:
                broken.add(digest)
        self.stdout.write(f"{count:,} files with {octets:,} octets were read.")
        faults, named = 0, set()
        for digest, whose in _named():
            named.add(digest)
            if digest in broken or digest not in there:
                faults += 1
                self.stdout.write(f"{'broken' if digest in broken else 'missing'}: {digest}, {whose}")
        for digest in sorted(broken - named):
            faults += 1
            self.stdout.write(f"broken: {digest}, which nothing names")
        if idle := len(there - named - broken):
            self.stdout.write(f"{idle:,} files are named by nothing, as those of deleted renders are.")
        if faults:
            raise CommandError(f"The store is not whole: {faults:,} places are named above. Bring the files back from a copy of the store.")
        self.stdout.write("The store is whole: every file is what its name says, and every file that the database names is there.")


def _named() -> Iterator[tuple[str, str]]:
    """Every digest that a row names in the store, and which row; ``BLOBS`` of a model names its fields."""
    for model in apps.get_models():
        for name in getattr(model, "BLOBS", ()):
            for number, value in model._default_manager.values_list("pk", name).iterator():
                digests = value.values() if isinstance(value, dict) else [value]
                yield from ((digest, f"of {model._meta.verbose_name} {number}") for digest in digests if digest)
