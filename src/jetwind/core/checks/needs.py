"""The facts that a check may need, each with the sentence of a check that lacks it."""

from __future__ import annotations

from collections.abc import Sequence

from jetwind.core.checking import CannotTell, Context, DoesNotApply
from jetwind.core.images.collecting import Picture, pictures_of
from jetwind.core.images.facts import PictureFacts
from jetwind.core.links.answers import Answers
from jetwind.core.links.collection import Target, targets
from jetwind.core.markup import Document
from jetwind.core.message import Message, TextPart


def need_headers(message: Message) -> None:
    """Raises CannotTell where nothing is known of subject and sender."""
    if not message.envelope_known:
        raise CannotTell("the input has no headers")


def need_html(message: Message) -> tuple[TextPart, Document]:
    """The HTML part and its tree. Raises DoesNotApply where there is none."""
    if message.html is None or message.document is None:
        raise DoesNotApply("the message has no HTML part")
    return message.html, message.document


def need_text(message: Message) -> TextPart:
    """The plain-text part. Raises DoesNotApply where there is none."""
    if message.text is None:
        raise DoesNotApply("the message has no plain-text part")
    return message.text


def need_mail(message: Message) -> None:
    """Raises DoesNotApply for what is no mail as transferred."""
    if message.root is None:
        raise DoesNotApply("the input is not a mail as it is transferred")


def need_answers(message: Message, context: Context) -> tuple[Answers, tuple[Target, ...]]:
    """The answers of the links, and the addresses that they lead to.

    Raises:
        DoesNotApply: no link leads to the web. CannotTell: none was opened.
    """
    asked = targets(message, context.readers)
    if not asked:
        raise DoesNotApply("no link leads to an address on the web")
    if context.answers is None or not context.answers.links:
        raise CannotTell("no link was opened; --live opens them, or the Links station")
    return context.answers, asked


def pictures_in(message: Message, context: Context) -> list[Picture]:
    """Every picture that the message shows, with what is known of those that lie elsewhere.

    Raises:
        DoesNotApply: it shows none.
    """
    answers = context.answers.pictures if context.answers is not None else {}
    known = {
        address: PictureFacts.from_json(answer.facts) if answer.facts is not None and answer.is_picture else None
        for address, answer in answers.items()
        # Of answers kept before pictures were measured nothing is known yet.
        if answer.problem != "not-opened" and (answer.facts is not None or not answer.is_picture)
    }
    found = pictures_of(message, known, context.readers)
    if not found:
        raise DoesNotApply("the message shows no pictures")
    return found


def told_of_all(pictures: Sequence[Picture]) -> None:
    """The answer of a check that found nothing: raises CannotTell where pictures were not looked at.

    One that did not come is told by ``images.unreachable``; what only counts openings is never asked for.
    """
    unseen = sum(picture.facts is None and not picture.is_tracking and not picture.is_lost for picture in pictures)
    if unseen:
        raise CannotTell(
            f"{unseen} pictures lie elsewhere and were not fetched" if unseen > 1 else "1 picture lies elsewhere and was not fetched"
        )
