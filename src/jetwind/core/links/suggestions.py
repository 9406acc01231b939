"""Words that one could put in where a footer lacks something, in the language of the message."""

from __future__ import annotations

from jetwind.core.facts import table
from jetwind.core.facts.tables import OfLanguages
from jetwind.core.message import Message
from jetwind.core.prose.language import languages_of


def suggestion(message: Message, demand: str) -> str:
    """A sentence or the words of a link for a demand of ``said.DEMANDS``; empty where words alone do not meet it."""
    words = table("footer_words", dict[str, OfLanguages]).get(demand, {})
    language = next((one for one in languages_of(message) if one in words), "en")
    name = next((box.name or box.address for box in message.mailboxes("From") if not message.holds_field(box.name)), "")
    return words.get(language, "").format(name=name or "…")
