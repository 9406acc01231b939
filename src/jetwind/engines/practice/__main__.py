"""``python -m jetwind.engines.practice FOLDER [PORT]``: the practice field's web and mail servers until they are told to stop.

PORT is that of the Mailroom on this machine, to which the mail servers hand mail on.
"""

from __future__ import annotations

import asyncio
import signal
import sys
from pathlib import Path

from jetwind.engines.practice.serving import PracticeWeb

DIRECTORY = "directory.json"


async def _serve(folder: Path, mailroom: int | None) -> None:
    stopping = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stopping.set)
    web = PracticeWeb(folder, mailroom=("127.0.0.1", mailroom) if mailroom is not None else None)
    directory = await web.start()
    directory.write(folder / DIRECTORY)
    print(f"the practice field's web is on 127.0.0.1, ports {directory.http_port} (http) and {directory.https_port} (https)", flush=True)
    try:
        await stopping.wait()
    finally:
        (folder / DIRECTORY).unlink(missing_ok=True)
        await web.stop()


if __name__ == "__main__":
    asyncio.run(_serve(Path(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else None))
