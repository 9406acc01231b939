"""Headless Chromium: rewritten HTML and a viewport to a picture, boxes and measured facts."""

from jetwind.engines.browser.capture import ALL_SECONDS, Capture, CaptureFailed, CaptureRequest
from jetwind.engines.browser.chromium import Browser
from jetwind.engines.browser.fake import FakeBrowser
from jetwind.engines.browser.landing import Landing, LandingBrowser, landings
from jetwind.engines.browser.survey import TOO_SLOW, Captures, OutOfTime, enlargeable, losses_shown, references, survey

__all__ = [
    "ALL_SECONDS",
    "TOO_SLOW",
    "Browser",
    "Capture",
    "CaptureFailed",
    "CaptureRequest",
    "Captures",
    "FakeBrowser",
    "Landing",
    "LandingBrowser",
    "OutOfTime",
    "enlargeable",
    "landings",
    "losses_shown",
    "references",
    "survey",
]
