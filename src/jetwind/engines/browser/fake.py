"""The browser's stand-in for tests: a blank picture of the right size, no process."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable

from jetwind.core.profiles.measured import Measured
from jetwind.engines.browser.capture import Capture, CaptureRequest


class FakeBrowser:
    """Answers every request with a white picture, and keeps the requests in ``seen``."""

    def __init__(self) -> None:
        self.seen: list[CaptureRequest] = []

    def capture(self, request: CaptureRequest) -> Capture:
        """A white picture of the first screen."""
        from PIL import Image

        self.seen.append(request)
        measured = Measured(request.room or request.width, request.first_screen, request.room or request.width, request.first_screen)
        if request.picture == "none":
            return Capture(b"", "", measured)
        size = (measured.width * request.pixel_ratio, measured.height * request.pixel_ratio)
        out = io.BytesIO()
        is_lossless = request.picture == "compare"
        Image.new("RGB", size, "white").save(out, "PNG" if is_lossless else "JPEG")
        return Capture(out.getvalue(), "image/png" if is_lossless else "image/jpeg", measured)

    def capture_all(self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool]) -> None:
        """Each request in turn; stops when ``done`` answers False."""
        for number, request in enumerate(requests):
            if not done(number, self.capture(request)):
                return

    def close(self) -> None:
        """Nothing to stop."""
