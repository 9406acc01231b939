"""The footer speaks to the same readers as the copy."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.facts import table
from jetwind.core.facts.tables import Languages
from jetwind.core.message import Message
from jetwind.core.prose.language import detect, same
from jetwind.core.prose.outline import outline_of

#: Words of a footer, and of another passage, from which their function words tell a language.
_FEWEST, _FEWEST_OF_PASSAGE = 20, 12
_COPY = (
    "<h1>Glazes</h1><p>We have twelve glazes for you, and all of them are a fifth off until the end of the month, so come to the kiln with "
    "your pots and we will fire them for you on Monday, as we have done with our members in the years before this one.</p>"
)
_GERMAN = (
    "<p>Sie erhalten diese Nachricht, weil Sie sich bei uns für den Rundbrief angemeldet haben und wir Ihnen von der Werkstatt und von den "
    'Kursen schreiben. <a href="https://kiln.org/u">Hier können Sie sich abmelden</a>.</p><p>Töpferei am Hafen, Hafenweg 3, 26721 Emden</p>'
)
_ENGLISH = (
    "<p>You are receiving this message because you have signed up for the letter of the kiln, and we write to you about the workshop and "
    'our courses. <a href="https://kiln.org/u">Unsubscribe here</a>.</p><p>Kiln Works, 12 Kiln Quay, Saltmarsh</p>'
)


@check(
    id="footer.language",
    name="Footer in another language",
    level=Level.FIX,
    why="Readers cannot read why they get the message and how they leave, which the law wants them to be told.",
    fix="Write the footer in the language of the copy.",
    basis="Common practice, no published source",
    samples=[
        clear(f"{_COPY}{_ENGLISH}"),
        clear(
            f"{_COPY}<p>Kiln Works, Hafenweg 3, 26721 Emden</p><p><a href='https://kiln.org/u'>Abmelden</a></p>"
        ),  # too few words to tell
        clear(f"{_COPY}{_GERMAN}{_ENGLISH}"),  # both
        clear(
            f"{_COPY}<p>Unsere Kurse sind für alle da, und wir freuen uns auf Sie und Ihre Freunde am Montag.</p>{_GERMAN}"
        ),  # copy in both
        clear("<p>Twelve glazes.</p>"),
        finds(f"{_COPY}{_GERMAN}"),
    ],
)
def find_language(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The words of the footer belong to the language of the copy."""
    if message.document is None:
        raise DoesNotApply("the message has no HTML part")
    sections = outline_of(message).sections
    footer = [passage for section, passage in sections if section == "footer"]
    others = [passage for section, passage in sections if section != "footer"]
    spoken = detect(" ".join(passage.text for passage in footer), _FEWEST)
    copy = detect(" ".join(passage.text for passage in others))
    if spoken is None or copy is None or same(spoken, copy):
        return
    if any((told := detect(passage.text, _FEWEST_OF_PASSAGE)) is not None and same(told, spoken) for passage in others):
        return
    if any((told := detect(passage.text, _FEWEST_OF_PASSAGE)) is not None and same(told, copy) for passage in footer):
        return
    first = max(footer, key=lambda passage: len(passage.text))
    span, element = first.span(message.document.source, 0, len(first.text))
    names = table("languages", Languages)["names"]
    data = {"footer": names.get(spoken, spoken), "copy": names.get(copy, copy)}
    yield Hit(
        "The footer is written in {footer}, and the copy in {copy}.", Place.in_html(message, span, element.index), data, identity="language"
    )
