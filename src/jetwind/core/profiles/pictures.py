"""Where the browser finds the pictures of a message: among its own parts, or nowhere."""

from __future__ import annotations

import base64
import hashlib
import io
import re
from collections.abc import Callable
from functools import lru_cache
from urllib.parse import unquote_to_bytes

from jetwind.core.images.bounded import COPY_PIXELS, MOST_SHOWN, MOST_TOGETHER, is_plain_drawing, pixel_size, smaller_copy
from jetwind.core.images.elsewhere import TRACKING_PX
from jetwind.core.message import Message, Resource, Shared
from jetwind.core.message.references import remote_key
from jetwind.core.profiles.plan import Plan
from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.rewritten import PARTS_HOST, ChangeKind
from jetwind.core.profiles.support import Loss
from jetwind.core.source import Span

_SMALLER: Shared[tuple[str, bytes] | None] = Shared("smaller copy of")
_PIXELS: Shared[int] = Shared("pixels of all")

#: An address that the browser is refused: it draws the box with its alternative text, as a client does.
BLOCKED = f"http://{PARTS_HOST}/blocked"
#: Marks a picture that is not there, with what the message's markup does not say of its size.
LACKING = "data-jetwind-lacking"
#: The space of such pictures. A browser gives an inline picture that does not come no space at all, whatever its attributes say. Anything
#: that the message says outweighs these rules. Where the message says nothing, a box of 200 px by 100 px, or of that proportion, stands.
LACKING_RULES = (
    f":where(img[{LACKING}]) {{ display: inline-block; overflow: hidden }} "
    f':where(img[{LACKING}~="ratio"]) {{ aspect-ratio: 2 / 1 }} '
    f':where(img[{LACKING}~="width"]) {{ width: 200px }}'
)
#: Types that are told by what a picture's name ends with, for pictures that lie elsewhere.
_ENDINGS = {
    "avif": "image/avif", "bmp": "image/bmp", "gif": "image/gif", "hdr": "image/vnd.radiance", "heic": "image/heic", "heif": "image/heif",
    "ico": "image/x-icon", "jpg": "image/jpeg", "jpeg": "image/jpeg", "mp4": "video/mp4", "png": "image/png", "apng": "image/apng",
    "svg": "image/svg+xml", "tif": "image/tiff", "tiff": "image/tiff", "webp": "image/webp",
}  # fmt: skip


class Pictures:
    """The pictures of one message in one profile; ``parts`` fills with those that may be loaded."""

    def __init__(
        self,
        message: Message,
        profile: Profile,
        plan: Plan,
        lost: Callable[[ChangeKind, Loss, Span | None], None],
        noted: Callable[[str, str, Span | None], None],
    ) -> None:
        self.message, self.profile, self.plan, self.lost, self.noted = message, profile, plan, lost, noted
        self.parts: dict[str, Resource] = {}
        #: Addresses of pictures that were fetched, as a browser asks for them, with the parts that are served under them.
        self.own: dict[str, str] = {}
        #: Addresses of pictures that lie elsewhere and were not fetched, in the order in which they stand.
        self.lacking: dict[str, None] = {}
        #: Width and height in px of pictures that are shown as a smaller copy, by the digest of the original.
        self.natural: dict[str, tuple[int, int]] = {}
        #: Pixels of each picture that may be loaded, by its digest.
        self.pixels: dict[str, int] = {}

    def address(self, value: str, span: Span | None = None, size: tuple[str, str] = ("", "")) -> str:
        """Where the browser finds a picture: among the message's own parts, or nowhere. ``size`` is what the markup declares."""
        value = value.strip()
        if self.profile.images == "blocked":
            return BLOCKED
        if value[:5].lower() == "data:":
            return self._data(value, span)
        resource = self.message.resource(value)
        scheme = re.match(r"(?:([a-zA-Z][a-zA-Z0-9+.-]*):|//)", value)
        is_remote = scheme is not None and (scheme[1] or "http").lower() in ("http", "https")
        fetched = self.message.elsewhere(value) if is_remote else None
        resource = fetched or resource
        kind = resource.content_type if resource is not None else _ENDINGS.get(re.split(r"[?#]", value)[0].rpartition(".")[2].lower(), "")
        loss = self._image_lost(kind)
        if loss is not None:
            self.lost("dropped", loss, span)
            return BLOCKED
        if fetched is not None:
            return self._under_own_address(value, self._part(fetched, span))
        if resource is not None and (scheme is None or value[:4].lower() == "cid:"):
            return self._part(resource, span)
        if is_remote:
            if not is_tracking(size):
                self.lacking[value[:2000]] = None
            if self.profile.images == "stand-in":
                return self._stand_in(size)
        return value

    def _data(self, value: str, span: Span | None) -> str:
        """A picture inside its own address, moved to a part: each such address would be read anew by every page."""
        head, _, body = value.partition(",")
        kind = head[5:].split(";")[0].strip().lower()
        for loss in self.plan.by_how.get("data-address", ()):
            if loss.values is None or loss.values.search(head):
                self.lost("dropped", loss, span)
                return BLOCKED
        lost = self._image_lost(kind)
        if lost is not None:
            self.lost("dropped", lost, span)
            return BLOCKED
        try:
            data = base64.b64decode(unquote_to_bytes(body), validate=False) if ";base64" in head.lower() else unquote_to_bytes(body)
        except ValueError:
            return BLOCKED
        if not kind.startswith("image/"):
            return BLOCKED
        return self._part(Resource(hashlib.sha256(data).hexdigest(), kind, None, data), span)

    def _under_own_address(self, value: str, part: str) -> str:
        """The address as it is written, under which the browser gets the part. What shows nowhere stays refused."""
        if part == BLOCKED:
            return part
        self.own[remote_key(value)] = part.rpartition("/")[2]
        return f"https:{value}" if value.startswith("//") else value

    def _part(self, resource: Resource, span: Span | None) -> str:
        """The address of a picture that may be shown: itself, a smaller copy of one with too many pixels, or none of a busy drawing."""
        if resource.content_type == "image/svg+xml" or b"<svg" in resource.data[:1000].lower():
            if not is_plain_drawing(resource.data):
                self.noted("drawing", "a drawing (SVG) too busy to be shown here", span)
                return BLOCKED
        elif resource.sha256 in self.parts:
            return f"http://{PARTS_HOST}/{resource.sha256}"
        elif (size := pixel_size(resource.data)) is not None and self._are_too_many(size[0] * size[1]):
            self.noted("pixels", f"a picture of {size[0]:,} × {size[1]:,} px shown as a smaller copy", span)
            self.natural[resource.sha256] = size
            copy = self.message.shared(_SMALLER.of(resource.sha256), lambda: smaller_copy(resource.data))
            shown = (
                Resource(resource.name, *_typed(copy)) if copy is not None else _grey(200, max(1, min(400, round(200 * size[1] / size[0]))))
            )
            self.parts[shown.sha256] = shown
            self.pixels[shown.sha256] = COPY_PIXELS
            return f"http://{PARTS_HOST}/{shown.sha256}"
        elif size is not None:
            self.pixels[resource.sha256] = size[0] * size[1]
        self.parts[resource.sha256] = resource
        return f"http://{PARTS_HOST}/{resource.sha256}"

    def _are_too_many(self, pixels: int) -> bool:
        """Whether a picture of so many pixels is shown as a smaller copy: for itself, or since all of the message have many together."""
        return pixels > MOST_SHOWN or (pixels > COPY_PIXELS and self.message.shared(_PIXELS, self._of_all) > MOST_TOGETHER)

    def _of_all(self) -> int:
        sizes = (pixel_size(one.data) for one in (*self.message.images, *self.message.fetched.values()))
        return sum(size[0] * size[1] for size in sizes if size is not None)

    def _stand_in(self, size: tuple[str, str]) -> str:
        """A grey picture of the declared size: a picture that does not come is laid out by rules of its own."""
        width, height = (int(one) if re.fullmatch(r"\s*[0-9]{1,4}\s*", one) and 0 < int(one) <= 2000 else 0 for one in size)
        width = width or 2 * height or 200
        resource = _grey(width, height or max(1, width // 2))
        self.parts[resource.sha256] = resource
        return f"http://{PARTS_HOST}/{resource.sha256}"

    def _image_lost(self, kind: str) -> Loss | None:
        return next((loss for loss in self.plan.by_how.get("image", ()) if kind in loss.names), None) if kind else None


def is_tracking(size: tuple[str, str]) -> bool:
    """Whether a place is given no more px than a picture has that is there to be counted."""
    return all(one.strip().isdecimal() and int(one.strip()[:9]) <= TRACKING_PX for one in size)


def _typed(copy: tuple[str, bytes]) -> tuple[str, None, bytes]:
    return copy[0], None, copy[1]


@lru_cache(maxsize=256)
def _grey(width: int, height: int) -> Resource:
    from PIL import Image

    out = io.BytesIO()
    Image.new("L", (width, height), 200).save(out, "PNG")
    return Resource(f"stand-in {width} {height}", "image/png", None, out.getvalue())
