"""What is asked of which kind of message: laws ask bulk mail, and a house may ask any kind."""

from __future__ import annotations

from jetwind.core.checking import Context, DoesNotApply


def need_bulk(context: Context, check_id: str, why: str) -> None:
    """Go on only for a message to an audience, or where the house's own rulebook asks this of any kind that it holds for."""
    if not context.kind.is_bulk and not is_of_the_house(context, check_id):
        raise DoesNotApply(why)


def is_of_the_house(context: Context, check_id: str) -> bool:
    """Whether a rulebook that the house wrote demands a check."""
    return any(check_id in book.checks for book in context.house)
