"""The data files that ship hold what their types say, and nothing else."""

import json
from pathlib import Path
from typing import Any

import msgspec
import pytest

from jetwind.core import facts
from jetwind.core.facts import table
from jetwind.core.facts.tables import KINDS, DemandRow, FeatureRow, Support
from jetwind.core.profiles import support

FILES = sorted(path.stem for path in Path(facts.__file__).parent.glob("*.toml"))


@pytest.mark.parametrize("name", FILES)
def test_a_file_is_of_its_type(name: str) -> None:
    """Read field by field by an independent library, and equal to what came in, so that no field is unknown to its type."""
    kind: Any = KINDS[name]
    given = table(name, dict[str, Any])
    read = msgspec.convert(given, kind)
    # As texts: a pair is read as a tuple, and written as the list that it came from.
    assert json.loads(msgspec.json.encode(read)) == json.loads(msgspec.json.encode(given))


def test_every_type_has_its_file() -> None:
    """No type is left over."""
    assert set(KINDS) == set(FILES)


def test_the_support_table_is_of_its_type() -> None:
    """A newer one that has another form is told before it ships."""
    assert msgspec.convert(support._support(), Support) == support._support()


def test_a_type_tells_what_does_not_fit() -> None:
    """The comparison can fail: on a field that lacks, and on one that is unknown."""
    with pytest.raises(msgspec.ValidationError):
        msgspec.convert({"names": ["a"]}, FeatureRow)
    assert msgspec.convert({"check": "a", "says": "b", "source": "c", "more": "d"}, DemandRow) == {"check": "a", "says": "b", "source": "c"}
