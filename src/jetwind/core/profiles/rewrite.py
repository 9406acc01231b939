"""Message and profile to the HTML that the browser renders, with the list of what was dropped, altered and added.

Only exact places of the source change. Every element that stands in the source is marked with its index, so that what
the browser measures can be laid beside findings.
"""

from __future__ import annotations

import html as html_standard
from dataclasses import replace

from jetwind.core.message import Message
from jetwind.core.profiles.page import Page
from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.rewritten import MARK_ATTRIBUTE, Rewriter, Rewritten


def rewrite(message: Message, profile: Profile, *, only: str | None = None, spared: str = "") -> Rewritten:
    """The HTML as a client takes it. A message without HTML is shown as its plain text.

    With ``only``, that feature of the support table alone is taken out ("" for none) and nothing else is done to the message, which
    tells whether the loss of the feature shows. With ``spared``, everything is done but the loss of that feature.
    """
    if message.html is None or message.document is None:
        return Rewritten(_plain_page(message, profile), {}, ())
    return Page(message, profile, only, spared).rewritten()


def untouched(rewriter: Rewriter, profile: Profile) -> Rewritten:
    """The HTML as an engine that lacks nothing would take it, in the same window: what the profile's render is held against."""
    return rewriter(replace(profile, engine="standards", prefix=""), only="")


def _plain_page(message: Message, profile: Profile) -> str:
    text = html_standard.escape(message.text.seen if message.text else "")
    dark = "background:#1f1f1f;color:#fff;" if profile.is_night else ""
    return (
        f'<!doctype html><meta charset="utf-8"><body style="margin:16px;{dark}max-width:{profile.content_width - 32}px">'
        f'<pre {MARK_ATTRIBUTE}="0" style="white-space:pre-wrap;font:15px/1.5 monospace">{text}</pre>'
    )
