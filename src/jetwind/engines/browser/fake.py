"""The browser's stand-in for tests: a blank picture of the right size, no process."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable

from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.measured import Block, Measured
from jetwind.core.renders.spoken import Spoken
from jetwind.engines.browser.capture import ALL_SECONDS, Capture, CaptureRequest


class FakeBrowser:
    """Answers every request with a white picture, and keeps the requests in ``seen``."""

    def __init__(self) -> None:
        self.seen: list[CaptureRequest] = []

    def capture(self, request: CaptureRequest) -> Capture:
        """A white picture of the first screen."""
        from PIL import Image

        self.seen.append(request)
        room = request.room or request.width
        # A page of one text over the whole message, so that it is neither blank nor faint.
        words = Block(
            0,
            "text",
            x=0,
            y=0,
            width=room,
            height=request.first_screen,
            characters=200,
            size=16,
            weight=400,
            colour=(0, 0, 0, 1),
            ground=(255, 255, 255, 1),
        )
        measured = Measured(room, request.first_screen, room, request.first_screen, (words,))
        if request.picture == "none":
            return Capture(b"", "", measured)
        size = (measured.width * request.pixel_ratio, measured.height * request.pixel_ratio)
        out = io.BytesIO()
        is_lossless = request.picture == "compare"
        Image.new("RGB", size, "white").save(out, "PNG" if is_lossless else "JPEG")
        return Capture(out.getvalue(), "image/png" if is_lossless else "image/jpeg", measured)

    def capture_all(
        self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool], seconds: float = ALL_SECONDS
    ) -> None:
        """Each request in turn; stops when ``done`` answers False."""
        for number, request in enumerate(requests):
            if not done(number, self.capture(request)):
                return

    def spoken(self, request: CaptureRequest, seconds: float) -> tuple[Spoken, ...] | None:
        """One text."""
        return (Spoken("text", "What a stand-in says", 0, "en", 0),)

    def enlarged(self, request: CaptureRequest, seconds: float) -> tuple[Loss, ...] | None:
        """Nothing is lost."""
        return ()

    def close(self) -> None:
        """Nothing to stop."""
