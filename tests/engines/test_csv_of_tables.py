"""The CSV that a page itself makes of its tables keeps the rule of the one writer: both are asked about the same texts, the script in Chromium."""

import re
from pathlib import Path
from typing import Any

import jetwind
from jetwind.core.source.cells import guarded
from tests.chromium import in_chromium
from tests.core.test_cells import FORMULAS, PLAIN

SCRIPT = Path(jetwind.__file__).parent / "apps" / "ui" / "static" / "ui" / "tables.js"


def test_the_same_rule() -> None:
    """What one keeps text, the other does; a number with its sign stays a number on a page, where every cell is a text."""
    source = SCRIPT.read_text("utf-8")
    found = re.search(r"const FORMULA =.*?^const saveAsCsv", source, re.DOTALL | re.MULTILINE)
    assert found is not None
    script = found[0].removesuffix("const saveAsCsv")
    texts = [*FORMULAS, *PLAIN]

    def ask(browser: Any) -> Any:
        page = browser.new_page()
        return page.evaluate(f"(texts) => {{ {script} return texts.map(csvCell); }}", texts)

    written = dict(zip(texts, in_chromium(ask), strict=True))
    expected = {text: '"' + str(guarded(text)).replace('"', '""') + '"' for text in texts}
    assert written == expected
