"""Calls are read without counting: a value that stands sixth in a row says what it is."""

import ast
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parents[2]
#: Functions that take any number of the same: words of a command, columns, fields of a kind, pieces of markup.
_TAKES_ANY_NUMBER = {"_run", "values_list", "UniqueConstraint", "has_field", "filled", "_lost"}


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
