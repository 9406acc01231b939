"""Sure mends change no pixel: forty real newsletters, before and after, in a real browser."""

from __future__ import annotations

from collections.abc import Sequence

from jetwind.core.checking import CheckResult, Context, run
from jetwind.core.checking.mends import MendKind, mends
from jetwind.core.mending import Before, mended, offers_of
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import REFERENCE, profiles, rewrite
from jetwind.core.prose.reading import reading_of
from jetwind.engines.browser import Browser, Capture, CaptureRequest
from tests.references import newsletters

CHECKS = [check for check, own in mends().items() if own[0].kind is MendKind.SURE]
PROFILE = profiles()[REFERENCE]


def judge(message: Message) -> Sequence[CheckResult]:
    """The answers of the checks that have a sure mend."""
    return run(message, Context(), CHECKS)


def test_forty_newsletters() -> None:
    """Octet for octet the same picture, and the same words; and 95 of 100 findings that a machine can surely mend are gone."""
    browser = Browser()
    faults = gone = pictures = 0
    try:
        for name, raw in [one for one in newsletters() if b"<table" in one[1].lower()][:40]:
            message = read_bytes(raw, "a.eml")
            if message.html is None:
                continue
            before = Before(message, raw, tuple(judge(message)), lambda octets: read_bytes(octets, "a.eml"), judge)
            offers = [one for one in offers_of(message, Context(), before.results)[0] if one.kind is MendKind.SURE]
            done = mended(before, offers)
            faults, gone = faults + len(offers), gone + len(done.taken)
            if not done.taken:
                continue
            assert reading_of(done.message).visible_text == reading_of(message).visible_text, name
            taken: dict[int, Capture | Exception] = {}

            def keep(number: int, capture: Capture | Exception, taken: dict[int, Capture | Exception] = taken) -> bool:
                taken[number] = capture
                return True

            browser.capture_all([CaptureRequest.of(rewrite(one, PROFILE), PROFILE) for one in (message, done.message)], keep)
            old, new = taken[0], taken[1]
            assert isinstance(old, Capture) and isinstance(new, Capture), (name, old, new)
            assert old.image == new.image, name
            pictures += 1
    finally:
        browser.close()
    print(f"{pictures} newsletters look the same; of {faults} findings with a sure mend, {gone} are gone")
    assert pictures >= 20 and gone >= 0.95 * faults
