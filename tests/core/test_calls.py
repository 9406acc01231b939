"""Calls are read without counting: a value that stands sixth in a row says what it is."""

import ast
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parents[2]
#: Functions that take any number of the same: words of a command, columns, fields of a kind.
_TAKES_ANY_NUMBER = {"_run", "values_list", "UniqueConstraint", "has_field", "_lost"}


def _calls(tree: ast.AST) -> Iterator[tuple[int, str, int]]:
    """Line, name and positional arguments of every call."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and not any(isinstance(argument, ast.Starred) for argument in node.args):
            yield node.lineno, ast.unparse(node.func).rpartition(".")[2], len(node.args)


def test_at_most_five_by_position() -> None:
    """In all of the source; migrations are written by Django."""
    found = [
        f"{path.name}:{line}: {name} has {number}"
        for path in sorted((ROOT / "src").rglob("*.py"))
        if "migrations" not in path.parts
        for line, name, number in _calls(ast.parse(path.read_text("utf-8")))
        if number > 5 and name not in _TAKES_ANY_NUMBER
    ]
    assert found == []


def test_every_value_of_the_core_has_a_type() -> None:
    """No ``Any`` in the core: the type checker would believe all that is done with it."""
    core = ROOT / "src" / "jetwind" / "core"
    names = [
        f"{path.name}:{node.lineno}"
        for path in sorted(core.rglob("*.py"))
        for node in ast.walk(ast.parse(path.read_text("utf-8")))
        if isinstance(node, ast.Name) and node.id == "Any"
    ]
    assert names == []
