"""``python -m jetwind.engines.practice FOLDER``: the practice field's web until it is told to stop."""

from __future__ import annotations

import asyncio
import signal
import sys
from pathlib import Path

from jetwind.engines.practice.serving import PracticeWeb

DIRECTORY = "directory.json"


async def _serve(folder: Path) -> None:
    stopping = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stopping.set)
    web = PracticeWeb(folder)
    directory = await web.start()
    directory.write(folder / DIRECTORY)
    print(f"the practice field's web is on 127.0.0.1, ports {directory.http_port} (http) and {directory.https_port} (https)", flush=True)
    try:
        await stopping.wait()
    finally:
        (folder / DIRECTORY).unlink(missing_ok=True)
        await web.stop()


if __name__ == "__main__":
    asyncio.run(_serve(Path(sys.argv[1])))
