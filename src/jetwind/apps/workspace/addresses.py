"""Every address of Jetwind with who may look there and who may send: read off the views' own declarations."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from django.urls import URLPattern, URLResolver, get_resolver

from jetwind.apps.accounts.permissions import Role, roles_for
from jetwind.apps.workspace.access import NeededPermissions
from jetwind.core.errors import JetwindError


@dataclass(frozen=True, slots=True)
class Address:
    """One address: its name, its path as a pattern, what its view asks for; None where it is open to everybody, signed in or not."""

    name: str
    path: str
    asked: NeededPermissions | None


class Undeclared(JetwindError):
    """A view that neither asks for a permission nor says that it is open to everybody."""


def addresses() -> list[Address]:
    """All addresses, in the order of their paths.

    Raises:
        Undeclared: a view has no declaration.
    """
    found = [_address(name, path, view) for name, path, view in _walk(get_resolver().url_patterns, "/")]
    return sorted(found, key=lambda address: address.path)


def _walk(patterns: list[Any], before: str) -> Iterator[tuple[str, str, Callable[..., Any]]]:
    for pattern in patterns:
        path = before + str(pattern.pattern)
        if isinstance(pattern, URLResolver):
            yield from _walk(pattern.url_patterns, path)
        elif isinstance(pattern, URLPattern):
            yield pattern.name or "", path, pattern.callback


def _address(name: str, path: str, view: Callable[..., Any]) -> Address:
    asked = getattr(view, "asked", None)
    if asked is None and getattr(view, "login_required", True):
        raise Undeclared(f"{path}: its view says neither @asks nor @login_not_required")
    return Address(name, path, asked)


def as_markdown() -> str:
    """The table of docs/permissions.md."""
    lines = [
        "# Who may do what, at every address",
        "",
        "Made from the views by `./jetwind manage addresses`; do not edit. `look` is opening a page, `send` is sending a form. Addresses of",
        "another workspace's things answer 404 to every role. The tests walk this table.",
        "",
        f"| address | | {' | '.join(role.value for role in Role)} |",
        f"| --- | --- | {' | '.join('---' for _ in Role)} |",
    ]
    for address in addresses():
        if address.asked is None:
            lines.append(f"| `{address.path}` | open to everybody | {' | '.join('' for _ in Role)} |")
            continue
        for kind, permission in (("look", address.asked.look), ("send", address.asked.send)):
            if permission is not None:
                holders = roles_for(permission)
                marks = " | ".join("yes" if role in holders else "no" for role in Role)
                lines.append(f"| `{address.path}` | {kind} | {marks} |")
        if address.asked == NeededPermissions(None, None):
            lines.append(f"| `{address.path}` | everybody who is signed in | {' | '.join('yes' for _ in Role)} |")
    return "\n".join(lines) + "\n"
