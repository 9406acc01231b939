"""Lighter files for eight pictures of 1,200 × 800 px, in two threads, against eight times decoding and one JPEG, in one.

And a message with sixty pictures: all checks of pictures, against opening each and making one JPEG of it.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.lighter
"""

from __future__ import annotations

import io
import random
import zipfile
from concurrent.futures import ThreadPoolExecutor

from PIL import Image, ImageFilter

from benchmarks.common import compare
from jetwind.core.checking import Context, registry, run_check
from jetwind.core.images import lighter, measure
from jetwind.core.images.facts import facts_of
from jetwind.core.message import read_bytes

_GOAL = 4


def _pictures() -> list[bytes]:
    found = []
    for seed in range(8):
        chance = random.Random(seed)  # noqa: S311
        small = Image.frombytes("RGB", (150, 100), chance.randbytes(150 * 100 * 3)).filter(ImageFilter.GaussianBlur(2))
        out = io.BytesIO()
        small.resize((1200, 800), Image.Resampling.BICUBIC).save(out, "JPEG", quality=92)
        found.append(out.getvalue())
    return found


def _plain(pictures: list[bytes]) -> None:
    for data in pictures:
        Image.open(io.BytesIO(data)).convert("RGB").save(io.BytesIO(), "JPEG", quality=80)


def _of_sixty() -> None:
    """All checks of pictures on a message with sixty of 300 × 200 px, against opening each once and making one JPEG of it."""
    files: dict[str, bytes] = {}
    for seed in range(60):
        chance = random.Random(seed)  # noqa: S311
        out = io.BytesIO()
        grain = Image.frombytes("RGB", (60, 40), chance.randbytes(60 * 40 * 3))
        grain.resize((300, 200), Image.Resampling.BICUBIC).save(out, "JPEG", quality=90)
        files[f"{seed}.jpg"] = out.getvalue()
    rows = "".join(
        f"<tr><td><img src='{name}' width='150' height='100' alt='Pot {name}'></td><td>Pot and words</td></tr>" for name in files
    )
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr(
            "a.html", f"<html lang='en'><head><title>Pots</title></head><body><table role='presentation'>{rows}</table></body>"
        )
        for name, data in files.items():
            archive.writestr(name, data)
    checks = [check for check_id, check in registry().items() if check_id.startswith(("images.", "access.alt"))]

    def reviewed() -> None:
        # What is known of a picture is remembered: each round begins anew.
        facts_of.cache_clear()
        measure.cache_clear()
        message = read_bytes(packed.getvalue(), "a.zip")
        for one in checks:
            run_check(one, message, Context())

    floor = "sixty decodes and JPEG quality 80, one thread"
    compare("a message with sixty pictures, all checks of pictures", floor, lambda: _plain(list(files.values())), reviewed, _GOAL)


def main() -> None:
    """Print the rows: what the check makes, and everything that may be chosen from."""
    pictures = _pictures()

    def proposed() -> None:
        with ThreadPoolExecutor(2) as threads:
            assert all(threads.map(lambda data: lighter.lighter(data, 600, 0.98), pictures))

    def all_of_them() -> None:
        with ThreadPoolExecutor(2) as threads:
            assert all(threads.map(lambda data: lighter.candidates(data, 600), pictures))

    floor = "eight decodes and JPEG quality 80, one thread"
    compare("the lightest of equal look, eight pictures", floor, lambda: _plain(pictures), proposed, _GOAL)
    compare("every candidate, eight pictures", floor, lambda: _plain(pictures), all_of_them, _GOAL)
    _of_sixty()


if __name__ == "__main__":
    main()
