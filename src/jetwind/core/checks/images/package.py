"""Every picture that the message refers to is in the package."""

from __future__ import annotations

import base64
from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Message, image_references

#: The smallest GIF: one transparent pixel.
PIXEL = base64.b64decode("R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7")
_MIXED = (
    "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/related; boundary=b\n\n--b\nContent-Type: text/html\n\n"
    "<img src='cid:{used}' alt='Bowl'>\n--b\nContent-Type: image/gif\nContent-Transfer-Encoding: base64\nContent-ID: <bowl@kiln.org>\n\n"
    "R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7\n--b--\n"
)


@check(
    id="images.missing",
    name="Picture not in the package",
    level=Level.STOP,
    why="The reader sees an empty box with a broken-picture sign.",
    fix="Add the file to the package, or correct the reference.",
    basis="RFC 2392 §2 (from memory)",
    together="{many} pictures are not in the package.",
    samples=[
        clear('<img src="img/bowl.gif" alt="Bowl">', files={"img/bowl.gif": PIXEL}),
        clear('<img src="./img/the%20bowl.gif?v=2" alt="Bowl">', files={"img/the bowl.gif": PIXEL}),
        clear('<img src="https://pictures.kiln.org/bowl.png" alt="Bowl"><img src="//kiln.org/a.png" alt="A">'),
        clear('<img src="{{ picture_url }}" alt="Bowl"><img src="img/{{ size }}.png" alt="x">'),
        clear('<img src="data:image/gif;base64,R0lGODlhAQABAAAAACw=" alt="">'),
        clear(_MIXED.format(used="bowl@kiln.org")),
        clear(_MIXED.format(used="bowl%40kiln.org")),
        clear('<div style="background-image:url(#mark)">x</div>'),
        clear('<td background="white"><img src="cid:bowl@kiln.org" alt="of the mail that this HTML was taken from"></td>'),
        clear('<table background="#FF9900"><tr><td background="white">x</td></tr></table>'),
        finds('<img src="img/bowl.gif" alt="Bowl">', at="img/bowl.gif"),
        finds('<img src="" alt="Bowl">'),
        finds(_MIXED.format(used="plate@kiln.org"), at="cid:plate@kiln.org"),
        finds("<div style=\"background-image:url('tile.png')\">x</div>", at="tile.png"),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each ``cid:`` and each path stands for a file that travels with the message."""
    seen: set[str] = set()
    of_the_mail = 0
    for reference in image_references(message):
        value = reference.value.strip()
        if not reference.is_local or value in seen or value.startswith("#") or message.holds_field(value):
            continue
        seen.add(value)
        if not value and reference.element.tag == "img":
            yield Hit("A picture has an empty address.", Place.in_html(message, reference.attribute.span, reference.element.index))
        elif value[:4].lower() == "cid:" and message.form == "html":
            of_the_mail += 1
        elif value and message.resource(value) is None:
            yield Hit(
                "The picture {reference} is not in the package.",
                Place.in_html(message, reference.span, reference.element.index),
                {"reference": value},
                identity=value,
            )
    if of_the_mail:
        raise CannotTell("the HTML came alone, and names pictures that travel in the mail (cid:)")
