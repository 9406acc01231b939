"""Templates for what stands on a page by the hundred, where Django's own would take most of the page's time.

They are Jinja2's, in the folder ``jinja2`` of each app (decision 0037).
"""

from __future__ import annotations

from django.template.loader import render_to_string
from django.utils.safestring import SafeString
from jinja2 import Environment, StrictUndefined


def environment(**options: object) -> Environment:
    """The settings of these templates: values are escaped, and a name that a template does not know is an error."""
    kept = {name: value for name, value in options.items() if name not in ("autoescape", "undefined")}
    return Environment(**kept, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)  # type: ignore[arg-type]


def many(template: str, **values: object) -> SafeString:
    """The markup of a template of the folders ``jinja2``, such as ``links/rows.html``."""
    return SafeString(render_to_string(template, values, using="jinja2"))
