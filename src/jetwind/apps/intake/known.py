"""The facts that come with a revision: one query asks the database for the revision and for all of them.

An app that knows such a fact declares it in its module ``known.py`` and hands it to :data:`facts` when the application starts.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import Func, OuterRef, Subquery, Value
from django.db.models.functions import JSONObject, Lower, Trim

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.models import SampleReader

T = TypeVar("T")


class Known(Generic[T]):
    """A fact about a revision. ``name`` is that of its annotation, ``expression`` makes what the database is asked for."""

    def __init__(self, name: str, expression: Callable[[], Any]) -> None:
        self.name = name
        self.expression = expression

    def of(self, revision: Revision) -> T:
        """The fact as it came with the revision; a revision that came without its facts is asked for this one."""
        if self.name not in revision.__dict__:
            found: T = Revision.objects.filter(pk=revision.pk).values_list(self.expression(), flat=True).get()
            return found
        came: T = revision.__dict__[self.name]
        return came


def plain_title(title: Any) -> Lower:
    """A title without capitals and with single blanks, as an expression of a query."""
    return Lower(Trim(Func(title, Value(r"\s+"), Value(" "), Value("g"), function="regexp_replace")))


#: The columns of each sample reader in the fact ``SAMPLE_READERS``.
READER = ("pk", "name", "email", "time_zone", "remark", "values")


def _newest_number() -> Subquery:
    return Subquery(Revision.objects.filter(mailing=OuterRef("mailing_id")).order_by("-number").values("number")[:1])


def _alike_titles() -> ArraySubquery:
    alike = Mailing.objects.filter(workspace=OuterRef("mailing__workspace_id")).annotate(plain=plain_title("title"))
    alike = alike.filter(plain=plain_title(OuterRef("mailing__title"))).exclude(pk=OuterRef("mailing_id"))
    return ArraySubquery(alike.values("title"))


def _sample_readers() -> ArraySubquery:
    readers = SampleReader.objects.filter(workspace=OuterRef("mailing__workspace_id")).order_by("id")
    return ArraySubquery(readers.values_list(JSONObject(**{name: name for name in READER})))


#: The number of the newest revision of its message.
NEWEST_NUMBER: Known[int] = Known("newest_number", _newest_number)
#: Titles of other messages that are its own but for capitals and blanks as the database tells them; exactly what is alike is worked out from these.
ALIKE_TITLES: Known[list[str]] = Known("alike_titles", _alike_titles)
#: The sample readers of its workspace, a table for each.
SAMPLE_READERS: Known[list[dict[str, Any]]] = Known("sample_readers", _sample_readers)

#: Every fact that comes with a revision; apps above add theirs.
facts: list[Known[Any]] = [NEWEST_NUMBER, ALIKE_TITLES, SAMPLE_READERS]
