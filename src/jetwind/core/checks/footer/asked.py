"""Which messages need a footer, and what is told where there is none. Laws ask for a footer in bulk mail; a house may ask for it in any."""

from __future__ import annotations

from urllib.parse import unquote

from jetwind.core.checking import Context, DoesNotApply, Hit, Kind, exempt
from jetwind.core.facts import phrase_pattern
from jetwind.core.links import links
from jetwind.core.links.said import Demand, footer_of
from jetwind.core.links.way_out import ADDRESS_WORDS
from jetwind.core.message import Message

#: The checks that look for something in the footer, with what each looks for. Where there is no footer, the first check that is asked tells it.
_HELD: dict[str, tuple[Demand, str]] = {
    "footer.unsubscribe-missing": ("unsubscribe", "a way out"),
    "footer.address-missing": ("address", "a postal address"),
    "footer.reason-missing": ("reason", "a reason for getting it"),
    "footer.preferences-missing": ("preferences", "a page of choices"),
}


def need_bulk(context: Context, check_id: str, why: str) -> None:
    """Go on only for a message to an audience, or where the house's own rulebook asks this of any kind that it holds for."""
    if not context.kind.is_bulk and not is_of_the_house(context, check_id):
        raise DoesNotApply(why)


def lacking(check_id: str, message: Message, context: Context, alone: Hit) -> Hit:
    """The answer of a check that misses something of the footer: ``alone``, or that there is no footer at all.

    Raises:
        DoesNotApply: there is no footer, and another check that is asked along tells.
    """
    if message.copy_for:
        return alone  # other readers have a footer, and not every check that misses it is asked of copies
    footer = footer_of(message)
    missed = [other for other in _HELD if other == check_id or (other in context.asked and _is_asked(other, message, context))]
    if len(missed) < 2 or any(footer.said(demand) is not None for demand, _ in _HELD.values()) or _tries_to_lead_out(message):
        return alone
    if missed[0] != check_id:
        raise DoesNotApply(f"the message has no footer, which {missed[0]} tells")
    words = [_HELD[other][1] for other in missed]
    return Hit(
        "The message has no footer: it lacks {lacks}.",
        alone.place,
        {"lacks": f"{', '.join(words[:-1])} and {words[-1]}", "checks": missed},
        identity="no footer",
        also=alone.also,
        fix="Put a footer at the end: an unsubscribe link, the sender’s postal address, and why the reader gets the message.",
    )


def _is_asked(check_id: str, message: Message, context: Context) -> bool:
    """Whether a check will miss what it looks for where nothing is said: it is switched on, some rulebook asks it, and it applies."""
    if context.settings.get(check_id, {}).get("level") == "off" or exempt(check_id, context.rulebooks, context.house):
        return False
    if check_id == "footer.unsubscribe-missing":
        return message.html is not None
    if check_id == "footer.preferences-missing":
        return context.kind is Kind.NEWSLETTER or is_of_the_house(context, check_id)
    if check_id == "footer.reason-missing":
        return not footer_of(message).has_field(*REASON_FIELDS)
    return True


def _tries_to_lead_out(message: Message) -> bool:
    """Whether a link says that it leads out of the list, though nobody sees it or it has no target: then there is a footer."""
    words = phrase_pattern("phrases", "unsubscribe")
    return any(words.search(link.name) or ADDRESS_WORDS.search(unquote(link.address or "")) for link in links(message))


#: Parts of the names of fields that bring the sentence which says why a reader gets a message.
REASON_FIELDS = ("permission", "reminder", "reason")


def is_of_the_house(context: Context, check_id: str) -> bool:
    """Whether a rulebook that the house wrote demands a check."""
    return any(check_id in book.checks for book in context.house)
