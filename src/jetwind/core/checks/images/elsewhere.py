"""Pictures that lie on a server are there."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Unpack

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.sample_values import AnswerValues, Given
from jetwind.core.checking.samples import answered, opened
from jetwind.core.images.elsewhere import remote_pictures
from jetwind.core.links.answers import Answer
from jetwind.core.message import Message

_A = "https://pictures.kiln.org/pot.png"
_IMAGE = f"<img src='{_A}' width='300' height='200' alt='A pot'>"


def _picture(*way: int, **more: Unpack[AnswerValues]) -> Given:
    values: AnswerValues = {"format": "PNG", "size": (300, 200), **more}
    return opened(pictures=(answered(_A, *way, **values),))


@check(
    id="images.unreachable",
    name="Picture that does not come",
    level=Level.STOP,
    why="The reader sees an empty box with a broken-picture sign.",
    fix="Put the picture on its server, or correct its address.",
    basis="RFC 9110 §15",
    together="{many} pictures do not come.",
    samples=[
        clear(_IMAGE, given=_picture(200)),
        clear("<img src='cid:a' alt='x'><img src='{{ picture }}' alt='y'>", given=_picture(404)),
        clear(_IMAGE),
        finds(_IMAGE, at=_A, given=_picture(404)),
        finds(_IMAGE, at=_A, given=_picture(problem="timed-out", why="it was not there after 20 s")),
        finds(_IMAGE, at=_A, given=_picture(200, size=(0, 0), format="", content_type="text/html")),
        finds(f"<table><tr><td background='{_A}'>x</td></tr></table>", at=_A, given=_picture(404)),
        finds(f"<style>td {{ background: url('{_A}') }}</style><p>x</p>", at=_A, given=_picture(404)),
        clear("<img src='https://pictures.kiln.org/open.gif' width='1' height='1' alt=''>", given=_picture(404)),
        finds(f"<img src='a.png' srcset='{_A} 2x' alt='x'>", given=_picture(404)),
    ],
)
def find_unreachable(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every picture that lies elsewhere comes, and is a picture."""
    pictures = remote_pictures(message, context.readers)
    if not pictures:
        raise DoesNotApply("no picture lies elsewhere")
    known = context.answers.pictures if context.answers is not None else {}
    if not known:
        raise CannotTell("pictures that lie elsewhere were not fetched; --live fetches them")
    for picture in pictures:
        answer = known.get(picture.address)
        if answer is None or answer.problem == "not-opened" or answer.is_picture:
            continue
        first, *others = (Place.in_html(message, reference.span, reference.element.index) for reference in picture.references)
        data = {"address": picture.address, "why": _why(answer), "status": answer.status}
        yield Hit("The picture {address} does not come: {why}.", first, data, identity=picture.address, also=tuple(others))


def _why(answer: Answer) -> str:
    if answer.problem:
        return answer.why
    if answer.status != 200:
        return f"its server answers {answer.status}"
    return f"what comes is no picture ({answer.content_type or 'of no type'})"
