"""``python -m jetwind.config.launch start|test|manage``."""

from __future__ import annotations

import sys

from jetwind.config.launch.commands import manage, start, test

if __name__ == "__main__":
    command, arguments = sys.argv[1], sys.argv[2:]
    sys.exit({"start": start, "test": test, "manage": manage}[command](arguments))
