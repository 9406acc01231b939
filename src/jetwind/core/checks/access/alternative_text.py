"""Every picture says in words what it shows."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.images.package import PIXEL
from jetwind.core.images import is_spacer, shown_size
from jetwind.core.markup import Element
from jetwind.core.message import Message, Sample

_FILE_NAME = re.compile(r"\S.*\.(?:png|jpe?g|gif|webp|svg|bmp|tiff?|heic|avif)\Z|(?!\w+:)\S*[/\\]\S*\.\w{3,4}\Z", re.IGNORECASE)
#: File systems take no longer name, in characters; beyond it an alternative text is something else.
_LONGEST_NAME = 255
_CAMERA = re.compile(r"(?:IMG|DSC|DSCN|DSCF|PXL|MVIMG|Screenshot|Screen[ _-]Shot)[ _-]?\d[\w -]*\Z", re.IGNORECASE)
_UNDERSCORED = re.compile(r"[A-Za-z0-9]+(?:[-_][A-Za-z0-9]+)*_[A-Za-z0-9]+(?:[-_][A-Za-z0-9]+)*\Z")
_SLUG = re.compile(r"[A-Za-z0-9]+(?:-[A-Za-z0-9]+)+\Z")


def _shown_pictures(message: Message) -> Iterator[Element]:
    if message.document is None:
        return
    for image in message.document.elements("img"):
        # A hidden picture with a size is one that a media query shows on phones; without a size it counts openings.
        if not message.cascade.is_hidden(image) or any(shown_size(message, image)):
            yield image


@check(
    id="access.alt-missing",
    name="Picture without alternative text",
    level=Level.STOP,
    why="With pictures blocked there is nothing in its place, and a screen reader spells out the file's address.",
    fix='Say in alt what the picture says; for mere decoration write alt="".',
    basis="WCAG 2.2 SC 1.1.1; HTML §4.8.4.4 (from memory)",
    merged=True,
    samples=[
        clear('<img src="https://kiln.org/bowl.png" alt="Sea-green bowl">'),
        clear('<img src="https://kiln.org/line.png" alt="">'),
        clear('<img src="https://kiln.org/line.png" alt>'),
        clear('<img src="https://kiln.org/open.gif" width="1" height="1">'),
        clear('<img src="https://kiln.org/open.gif" style="width:1px;height:1px">'),
        clear('<img src="https://kiln.org/gap.gif" width="600" height="2">'),
        clear('<img src="gap.gif">', files={"gap.gif": PIXEL}),
        clear('<img src="https://kiln.org/open?m=1" style="display:none">'),
        clear('<!--[if mso]><img src="x.png"><![endif]-->'),
        clear('<img src="https://kiln.org/bowl.png" alt="{{ product_name }}">'),
        clear('<img src="https://kiln.org/bowl.png" alt="{{ product_name }}">', readers=(Sample("Nil", {"product_name": ""}),)),
        finds('<img src="https://kiln.org/bowl.png">', at='<img src="https://kiln.org/bowl.png">'),
        finds('<a href="https://kiln.org"><img src="https://kiln.org/bowl.png" width="600" title="Bowl"></a>'),
        finds('<img src="https://kiln.org/bowl.png" width="100%">'),
        finds('<div style="display:none" class="on-phone"><img src="https://kiln.org/bowl.png" width="320"></div>'),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each shown picture larger than a spacer has an alt attribute."""
    for image in _shown_pictures(message):
        if "alt" in image.attributes or is_spacer(message, image):
            continue
        source = image.get("src") or "without address"
        yield Hit(
            "The picture {source} has no alt attribute.",
            Place.in_html(message, image.start_tag, image.index),
            {"source": posixpath.basename(source.split("?")[0]) or source},
            identity=source,
        )


@check(
    id="access.alt-filename",
    name="File name as alternative text",
    level=Level.FIX,
    why="A file name tells the reader nothing about the picture.",
    fix='Say in alt what the picture says; for mere decoration write alt="".',
    basis="HTML §4.8.4.4 (from memory)",
    merged=True,
    samples=[
        clear('<img src="https://kiln.org/bowl.png" alt="Sea-green bowl">'),
        clear('<img src="https://kiln.org/t-shirt.png" alt="T-shirt"><img src="x" alt="">'),
        clear('<img src="https://kiln.org/a.png" alt="state-of-the-art"><img src="x" alt="COVID-19">'),
        clear('<img src="https://kiln.org/a.png" alt="kiln.org"><img src="x" alt="{{ first_name }}">'),
        clear('<img src="https://kiln.org/sale.png" alt="Sale"><img src="x" alt="5/6 off, and up.">'),
        finds('<img src="https://kiln.org/bowl.png" alt="bowl.png">', at="bowl.png"),
        finds('<img src="https://kiln.org/a.png" alt="header_bowl_v2">', at="header_bowl_v2"),
        finds('<img src="https://kiln.org/spring-sale-1200.jpg" alt="spring-sale-1200">', at="spring-sale-1200"),
        finds('<img src="https://kiln.org/a.png" alt="IMG_2041">', at="IMG_2041"),
        finds('<img src="https://kiln.org/a.png" alt="Spring Sale Final.JPG">', at="Spring Sale Final.JPG"),
    ],
)
def find_file_name(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """An alternative text is words, not a file name or a slug."""
    for image in _shown_pictures(message):
        alt = image.attributes.get("alt")
        if alt is None or not _is_file_name(alt.value.strip(), image.get("src") or ""):
            continue
        yield Hit(
            "The alternative text is a file name: {alt}",
            Place.in_html(message, alt.value_span, image.index),
            {"alt": alt.value.strip()},
            identity=alt.value.strip(),
        )


def _is_file_name(alt: str, source: str) -> bool:
    if not alt or "{" in alt or len(alt) > _LONGEST_NAME:
        return False
    if _FILE_NAME.match(alt) or _CAMERA.match(alt) or _UNDERSCORED.match(alt):
        return True
    if not _SLUG.match(alt):
        return False
    stem = posixpath.splitext(posixpath.basename(source.split("?")[0]))[0]
    many = alt.count("-") >= 2
    return many and (alt.casefold() == stem.casefold() or any(char.isdigit() for char in alt))
