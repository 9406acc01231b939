"""The mends of letters that are too faint or too small, and of links that are hard to tell or to hit: measured on renders, and proven by them."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Finding, SampleBlock, box, laid_out
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checks.access.size import TextOptions, small_targets
from jetwind.core.checks.inline_styles import InlineStyles
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.renders.measured import Block
from jetwind.core.styles import length_px
from jetwind.core.styles.contrast import Rgba, as_hex, with_contrast

_WHITE, _BLACK, _GREY = (255.0, 255.0, 255.0, 1.0), (0.0, 0.0, 0.0, 1.0), (153.0, 153.0, 153.0, 1.0)
_LEAVES = "Style sheets and the elements around it stay as they are; where their rules win, nothing is mended."


def _faint(selector: str, colour: Rgba, ground: Rgba = _WHITE) -> SampleBlock:
    return box(selector, "text", (0, 0, 200, 20), characters=40, size=16, colour=colour, ground=ground)


def _copy(selector: str, size: float) -> SampleBlock:
    return box(selector, "text", (0, 0, 200, 20), characters=80, size=size, colour=_BLACK, ground=_WHITE)


def _elements(message: Message, finding: Finding) -> list[Element]:
    """The elements that a finding names, or those at its places, without those that the parser made up."""
    known = message.document.all_elements if message.document is not None else []
    named = finding.data.get("elements")
    indices = named if isinstance(named, list | tuple) else [place.element for place in finding.places]
    return [
        known[index] for index in dict.fromkeys(indices) if isinstance(index, int) and 0 <= index < len(known) and known[index].start_tag
    ]


def _styles(message: Message, elements: list[Element]) -> InlineStyles:
    assert message.document is not None
    return InlineStyles(message.document, {one.index for one in elements})


def _colour(words: object) -> Rgba | None:
    """The colour of six hexadecimal digits behind a number sign; None for anything else."""
    digits = str(words).removeprefix("#")
    if len(digits) != 6:
        return None
    red, green, blue = bytes.fromhex(digits)
    return red, green, blue, 1.0


@mend(
    "access.contrast",
    kind=MendKind.CONFIRM,
    measured=True,
    does="The letters keep their hue and become as much darker or lighter as their contrast needs, in the style attribute of their element.",
    leaves=_LEAVES,
    samples=[
        turns("<p>x</p>", '<p style="color:#767676">x</p>', renders=laid_out("desktop-pane", _faint("p", _GREY))),
        turns(
            "<p style='font: 16px Arial; COLOR: #999 !important'>x</p>",
            "<p style='font: 16px Arial; COLOR: #767676 !important'>x</p>",
            renders=laid_out("desktop-pane", _faint("p", _GREY)),
        ),
        turns(
            "<p style='margin:0'>x</p>",
            "<p style='margin:0;color:#838383'>x</p>",
            renders=laid_out("desktop-pane", _faint("p", (80.0, 80.0, 80.0, 1.0), (27.0, 27.0, 27.0, 1.0))),
        ),
        leaves_alone("<p style='color:{{ shade }}'>x</p>", renders=laid_out("desktop-pane", _faint("p", _GREY))),
    ],
)
def mend_contrast(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The least distance in lightness; what is written in a field stays."""
    letters, ground = _colour(finding.data.get("letters")), _colour(finding.data.get("ground"))
    if letters is None or ground is None:
        return
    yield from _coloured(message, finding, with_contrast(letters, ground, float(str(finding.data.get("least", 4.5)))))


def _coloured(message: Message, finding: Finding, colour: Rgba | None) -> Iterator[Change]:
    elements = _elements(message, finding) if colour is not None else []
    styles = _styles(message, elements) if elements else None
    for element in elements:
        assert styles is not None and colour is not None
        yield from styles.with_values(element, {"color": as_hex(colour)})


@mend(
    "access.alt-unreadable",
    kind=MendKind.CONFIRM,
    measured=True,
    does="The picture gets a colour for its alternative text: the one that it has, as much darker or lighter as its contrast needs.",
    leaves=_LEAVES,
    samples=[
        turns(
            "<img alt='Spring sale' src='https://kiln.org/a.png'>",
            "<img style=\"color:#949494\" alt='Spring sale' src='https://kiln.org/a.png'>",
            renders=laid_out(
                "pane-blocked",
                box("img", "image", (0, 0, 90, 90), characters=11, size=16, colour=(230, 230, 230, 1), ground=_WHITE, is_broken=True),
            ),
        ),
        leaves_alone(
            "<img alt='Spring sale' style='color:{{ shade }}' src='https://kiln.org/a.png'>",
            renders=laid_out(
                "pane-blocked",
                box("img", "image", (0, 0, 90, 90), characters=11, size=16, colour=(230, 230, 230, 1), ground=_WHITE, is_broken=True),
            ),
        ),
    ],
)
def mend_alternative(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """By the first render that shows it too faint."""
    wanted = {one.index for one in _elements(message, finding)}
    for render in context.renders.where(images="blocked") if context.renders is not None else ():
        for block in render.measured.of("image"):
            if block.element in wanted and block.colour is not None and block.ground is not None and (block.contrast or 3) < 3:
                yield from _coloured(message, finding, with_contrast(block.colour, block.ground, 3))
                return


@mend(
    "access.link-colour-only",
    kind=MendKind.CONFIRM,
    measured=True,
    does="The link is underlined, by its style attribute.",
    leaves=_LEAVES,
    samples=[
        turns(
            "<p>a <a href=x style='text-decoration: none'>b</a></p>",
            "<p>a <a href=x style='text-decoration: underline'>b</a></p>",
            renders=laid_out(
                "desktop-pane",
                box("a", "link", (0, 0, 20, 20), colour=(31, 95, 139, 1), in_text=True, marked=False, other_colour=(60, 60, 60, 1)),
            ),
        ),
        leaves_alone(
            "<p>a <a href=x style='text-decoration:{{ line }}'>b</a></p>",
            renders=laid_out(
                "desktop-pane",
                box("a", "link", (0, 0, 20, 20), colour=(31, 95, 139, 1), in_text=True, marked=False, other_colour=(60, 60, 60, 1)),
            ),
        ),
    ],
)
def mend_colour_only(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """Each link of the finding."""
    elements = _elements(message, finding)
    styles = _styles(message, elements)
    for element in elements:
        yield from styles.with_values(element, {"text-decoration": "underline"})


@mend(
    "access.text-small",
    kind=MendKind.CONFIRM,
    measured=True,
    does="The letters get the least size that they need, in the style attribute of their element; a line height in px there grows along.",
    leaves="A message that a phone shrinks as a whole is left to a person: it is too wide.",
    samples=[
        turns(
            "<p style='font-size:11px;line-height:14px'>Words enough to be copy.</p>",
            "<p style='font-size:12px;line-height:16px'>Words enough to be copy.</p>",
            renders=laid_out("desktop-pane", _copy("p", 11)),
        ),
        turns(
            "<p style='font:13px Arial'>Words enough to be copy.</p>",
            "<p style='font:13px Arial;font-size:14px'>Words enough to be copy.</p>",
            renders=laid_out("phone-upright", _copy("p", 13)),
        ),
        leaves_alone("<p>Words enough to be copy.</p>", renders=laid_out("phone-upright", _copy("p", 16), width=640, scale=0.61)),
    ],
)
def mend_small(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The least size of the most demanding profile that was seen."""
    size, least = float(str(finding.data.get("size", 0))), _least_size(context, finding)
    if finding.data.get("scale") != 100 or not 0 < size < least:
        return
    elements = _elements(message, finding)
    styles = _styles(message, elements)
    for element in elements:
        values = {"font-size": f"{least:g}px"}
        line = styles.value(element, "line-height") or ""
        height = length_px(line) if line.endswith("px") else None
        if height is not None:
            values["line-height"] = f"{-(-height * least // size):g}px"
        yield from styles.with_values(element, values)


def _least_size(context: Context, finding: Finding) -> float:
    least = float(str(finding.data.get("least", 0)))
    ids = finding.data.get("profile_ids")
    known = context.renders.renders if context.renders is not None else {}
    is_of_phone = any(known[one].profile.is_phone for one in ids if one in known) if isinstance(ids, list | tuple) else False
    of_phone = float(str(context.settings.get("access.text-small", {}).get("phone_px", TextOptions().phone_px)))
    return max(least, of_phone) if is_of_phone and finding.data.get("section") == "Body copy" else least


#: Declarations of its own that keep a link from getting padding.
_SET_ALREADY = ("padding", "padding-top", "padding-right", "padding-bottom", "padding-left", "display")


@mend(
    "access.tap-small",
    kind=MendKind.CONFIRM,
    measured=True,
    does="Each link that is too small to hit gets padding until it is 24 px wide and high, and is set as a block in its line.",
    leaves="A link with padding, or set as a block, of its own is left to a person.",
    samples=[
        turns(
            "<a href=x>x</a><a href=y>y</a>",
            '<a style="display:inline-block;padding:6px" href=x>x</a><a href=y>y</a>',
            renders=laid_out("phone-upright", box("a", "link", (0, 0, 12, 12)), box("a + a", "link", (14, 0, 40, 40))),
        ),
        leaves_alone(
            "<a href=x style='padding:2px'>x</a><a href=y>y</a>",
            renders=laid_out("phone-upright", box("a", "link", (0, 0, 12, 12)), box("a + a", "link", (14, 0, 40, 40))),
        ),
    ],
)
def mend_targets(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """As much as the smallest of its boxes needs."""
    smallest: dict[int, Block] = {}
    for render in context.renders.where(device="phone") if context.renders is not None else ():
        for block in small_targets(render.measured):
            known = smallest.get(block.element)
            if known is None or block.width * block.height < known.width * known.height:
                smallest[block.element] = block
    elements = [one for one in _elements(message, finding) if one.index in smallest]
    styles = _styles(message, elements)
    if any(styles.value(element, name) is not None for element in elements for name in _SET_ALREADY):
        return
    for element in elements:
        block = smallest[element.index]
        down, across = (max(0, -(-(24 - side) // 2)) for side in (block.height, block.width))
        padding = f"{down:g}px" if down == across else f"{down:g}px {across:g}px"
        yield from styles.with_values(element, {"display": "inline-block", "padding": padding})
