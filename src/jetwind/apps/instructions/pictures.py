"""Pictures of places of a message, cut from its renders."""

from __future__ import annotations

import io
from collections.abc import Sequence

from PIL import Image, ImageDraw

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.previews.as_whom import as_whom
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN
from jetwind.apps.previews.places import box_of
from jetwind.core.profiles import REFERENCE

#: What is shown around an element, the largest size of a picture, in CSS px of the render; and the pixels of the file in its width.
_AROUND, _WIDTH, _HEIGHT, _MOST_PIXELS = 28, 700, 460, 900
_OUTLINE = "#B93C0A"


def pictures_of(revision: Revision, wanted: Sequence[tuple[int | None, Sequence[str]]]) -> list[bytes | None]:
    """For each element, by its index and the profiles in which to look for it, a PNG of its place; None where no render shows it.

    Each render is read once, however many places it shows.
    """
    whom = as_whom(revision).here
    done = Render.objects.filter(revision=revision, mode=OWN, state=Render.State.DONE, **whom).values_list("profile", "pk")
    by_profile = dict(done)
    found: list[bytes | None] = [None] * len(wanted)
    by_render: dict[int, list[int]] = {}
    for number, (element, profiles) in enumerate(wanted):
        names = [name for name in profiles if name in by_profile] or [name for name in (REFERENCE, *by_profile) if name in by_profile]
        if element is not None and names:
            by_render.setdefault(by_profile[names[0]], []).append(number)
    for render_id, numbers in by_render.items():
        render = Render.objects.defer("changes", "spoken", "tree").get(pk=render_id)
        for number, cut in zip(numbers, _cuts(revision, render, [wanted[one][0] for one in numbers]), strict=True):
            found[number] = cut
    return found


def _cuts(revision: Revision, render: Render, elements: Sequence[int | None]) -> list[bytes | None]:
    document, layout = message_of(revision).document, render.layout
    if document is None:
        return [None] * len(elements)
    try:
        shot = Image.open(io.BytesIO(store.fetch(render.blob_sha256))).convert("RGB")
    except (store.BlobMissing, OSError):
        return [None] * len(elements)
    scale = shot.width / max(layout.width, 1)
    cuts: list[bytes | None] = []
    for element in elements:
        known = element is not None and 0 <= element < len(document.all_elements)
        box = box_of(document, layout, document.all_elements[element or 0]) if known else None
        cuts.append(_cut(shot, box, scale) if box is not None and box[1] * scale < shot.height else None)
    return cuts


def _cut(shot: Image.Image, box: tuple[float, float, float, float], scale: float) -> bytes:
    """What a render shows around a box, with the box outlined."""
    x, y, width, height = box
    left, top = max(x - _AROUND, 0), max(y - _AROUND, 0)
    right, bottom = min(x + width + _AROUND, left + _WIDTH), min(y + height + _AROUND, top + _HEIGHT)
    area = (round(left * scale), round(top * scale), min(round(right * scale), shot.width), min(round(bottom * scale), shot.height))
    piece = shot.crop((area[0], area[1], max(area[2], area[0] + 1), max(area[3], area[1] + 1)))
    pen = ImageDraw.Draw(piece)
    outline = [(x - 2) * scale - area[0], (y - 2) * scale - area[1], (x + width + 2) * scale - area[0], (y + height + 2) * scale - area[1]]
    if outline[2] > outline[0] and outline[3] > outline[1]:
        pen.rectangle(outline, outline=_OUTLINE, width=max(2, round(2 * scale)))
    if piece.width > _MOST_PIXELS:
        piece = piece.resize((_MOST_PIXELS, max(1, round(piece.height * _MOST_PIXELS / piece.width))))
    out = io.BytesIO()
    piece.quantize(128).save(out, "PNG", optimize=True)
    return out.getvalue()
