"""Lighter files for eight pictures of 1,200 × 800 px, in two threads, against eight times decoding and one JPEG, in one.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.lighter
"""

from __future__ import annotations

import io
import random
from concurrent.futures import ThreadPoolExecutor

from PIL import Image, ImageFilter

from benchmarks.common import compare
from jetwind.core.images import lighter

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


def main() -> None:
    """Print the rows: what the check makes, and everything that may be chosen from."""
    pictures = _pictures()

    def proposed() -> None:
        with ThreadPoolExecutor(2) as threads:
            assert all(threads.map(lambda data: lighter.lighter(data, 600, 0.98), pictures))

    def all_of_them() -> None:
        lighter._candidates.cache_clear()
        with ThreadPoolExecutor(2) as threads:
            assert all(threads.map(lambda data: lighter.candidates(data, 600), pictures))

    floor = "eight decodes and JPEG quality 80, one thread"
    compare("the lightest of equal look, eight pictures", floor, lambda: _plain(pictures), proposed, _GOAL)
    compare("every candidate, eight pictures", floor, lambda: _plain(pictures), all_of_them, _GOAL)


if __name__ == "__main__":
    main()
