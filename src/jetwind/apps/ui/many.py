"""Templates for what stands on a page by the hundred, where Django's own would take most of the page's time.

They are Jinja2's, in the folder ``jinja2`` of each app (decision 0037).
"""

from __future__ import annotations

from datetime import datetime

from django.template import defaultfilters
from django.template.loader import render_to_string
from django.utils import timezone
from django.utils.safestring import SafeString
from jinja2 import Environment, StrictUndefined

from jetwind.apps.ui.templatetags import jetwind as tags


def environment(**options: object) -> Environment:
    """The settings of these templates: values are escaped, and a name that a template does not know is an error.

    Marks, times and numbers are drawn by the same functions as in Django's templates.
    """
    kept = {name: value for name, value in options.items() if name not in ("autoescape", "undefined")}
    made = Environment(**kept, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)  # type: ignore[arg-type]
    made.globals |= {"windsock": tags.windsock, "weight": tags.weight, "dot": tags.dot}
    made.filters |= {"in_zone": tags.in_zone, "counted": tags.counted, "date": _date}
    return made


def _date(moment: datetime | None, written: str) -> str:
    """A time of the viewer's zone, written as Django's filter ``date`` writes it; nothing for no time."""
    return str(defaultfilters.date(timezone.localtime(moment), written)) if moment is not None else ""


def many(template: str, **values: object) -> SafeString:
    """The markup of a template of the folders ``jinja2``, such as ``links/rows.html``."""
    return SafeString(render_to_string(template, values, using="jinja2"))
