"""Where the browser finds the pictures of a message: among its own parts, or nowhere."""

from __future__ import annotations

import base64
import hashlib
import io
import re
from collections.abc import Callable
from functools import lru_cache
from urllib.parse import unquote_to_bytes

from jetwind.core.message import Message, Resource
from jetwind.core.profiles.plan import Plan
from jetwind.core.profiles.profile import Profile
from jetwind.core.profiles.rewrite import PARTS_HOST, Kind
from jetwind.core.profiles.support import Loss
from jetwind.core.source import Span

#: An address that the browser is refused: it draws the box with its alternative text, as a client does.
BLOCKED = f"http://{PARTS_HOST}/blocked"
#: Types that are told by what a picture's name ends with, for pictures that lie elsewhere.
_ENDINGS = {
    "avif": "image/avif", "bmp": "image/bmp", "gif": "image/gif", "hdr": "image/vnd.radiance", "heic": "image/heic", "heif": "image/heif",
    "ico": "image/x-icon", "jpg": "image/jpeg", "jpeg": "image/jpeg", "mp4": "video/mp4", "png": "image/png", "apng": "image/apng",
    "svg": "image/svg+xml", "tif": "image/tiff", "tiff": "image/tiff", "webp": "image/webp",
}  # fmt: skip


class Pictures:
    """The pictures of one message in one profile; ``parts`` fills with those that may be loaded."""

    def __init__(self, message: Message, profile: Profile, plan: Plan, lost: Callable[[Kind, Loss, Span | None], None]) -> None:
        self.message, self.profile, self.plan, self.lost = message, profile, plan, lost
        self.parts: dict[str, Resource] = {}
        self.remote = 0

    def address(self, value: str, span: Span | None = None, size: tuple[str, str] = ("", "")) -> str:
        """Where the browser finds a picture: among the message's own parts, or nowhere. ``size`` is what the markup declares."""
        value = value.strip()
        if self.profile.images == "blocked":
            return BLOCKED
        if value[:5].lower() == "data:":
            return self._data(value, span)
        resource = self.message.resource(value)
        scheme = re.match(r"(?:([a-zA-Z][a-zA-Z0-9+.-]*):|//)", value)
        kind = resource.content_type if resource is not None else _ENDINGS.get(re.split(r"[?#]", value)[0].rpartition(".")[2].lower(), "")
        loss = self._image_lost(kind)
        if loss is not None:
            self.lost("dropped", loss, span)
            return BLOCKED
        if resource is not None and (scheme is None or value[:4].lower() == "cid:"):
            self.parts[resource.sha256] = resource
            return f"http://{PARTS_HOST}/{resource.sha256}"
        if scheme is not None and (scheme[1] or "http").lower() in ("http", "https"):
            self.remote += 1
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
        digest = hashlib.sha256(data).hexdigest()
        self.parts[digest] = Resource(digest, kind, None, data)
        return f"http://{PARTS_HOST}/{digest}"

    def _stand_in(self, size: tuple[str, str]) -> str:
        """A grey picture of the declared size: a picture that does not come is laid out by rules of its own."""
        width, height = (int(one) if re.fullmatch(r"\s*[0-9]{1,4}\s*", one) and 0 < int(one) <= 2000 else 0 for one in size)
        width = width or 2 * height or 200
        resource = _grey(width, height or max(1, width // 2))
        self.parts[resource.sha256] = resource
        return f"http://{PARTS_HOST}/{resource.sha256}"

    def _image_lost(self, kind: str) -> Loss | None:
        return next((loss for loss in self.plan.by_how.get("image", ()) if kind in loss.names), None) if kind else None


@lru_cache(maxsize=256)
def _grey(width: int, height: int) -> Resource:
    from PIL import Image

    out = io.BytesIO()
    Image.new("L", (width, height), 200).save(out, "PNG")
    return Resource(f"stand-in {width} {height}", "image/png", None, out.getvalue())
