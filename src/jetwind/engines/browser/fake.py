"""The browser's stand-in for tests: a blank picture of the right size, no process."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable

from jetwind.engines.browser.capture import Capture, CaptureRequest


class FakeBrowser:
    """Answers every request with a white picture, and keeps the requests in ``seen``."""

    def __init__(self) -> None:
        self.seen: list[CaptureRequest] = []

    def capture(self, request: CaptureRequest) -> Capture:
        """A white picture of the first screen."""
        from PIL import Image

        self.seen.append(request)
        size = (request.width * request.pixel_ratio, request.first_screen * request.pixel_ratio)
        out = io.BytesIO()
        Image.new("RGB", size, "white").save(out, "PNG" if request.lossless else "JPEG")
        content_type = "image/png" if request.lossless else "image/jpeg"
        return Capture(out.getvalue(), content_type, request.width, request.first_screen, request.width, False, ())

    def capture_all(self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool]) -> None:
        """Each request in turn; stops when ``done`` answers False."""
        for number, request in enumerate(requests):
            if not done(number, self.capture(request)):
                return

    def close(self) -> None:
        """Nothing to stop."""
