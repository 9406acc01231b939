"""The permissions of each role. Every permission is named here once; naming another fails when the code is imported."""

from __future__ import annotations

from enum import StrEnum


class Role(StrEnum):
    """The roles that a person may have in a workspace; a person may have several."""

    REVIEWER = "reviewer"
    AUTHOR = "author"
    APPROVER = "approver"
    OPERATOR = "operator"
    OWNER = "owner"


_ANY = frozenset(Role)

PERMISSIONS: dict[str, frozenset[Role]] = {
    "mailing:view": _ANY,
    "mailing:take-in": frozenset({Role.AUTHOR, Role.REVIEWER}),
    "mailing:change": frozenset({Role.AUTHOR, Role.REVIEWER}),
    "mailing:copy": frozenset({Role.AUTHOR, Role.REVIEWER, Role.OPERATOR}),
    "review:look": frozenset({Role.REVIEWER, Role.APPROVER}),
    "review:excuse": frozenset({Role.REVIEWER, Role.APPROVER}),
    "review:send-back": frozenset({Role.REVIEWER, Role.APPROVER}),
    "comment:write": frozenset({Role.AUTHOR, Role.REVIEWER, Role.APPROVER, Role.OPERATOR}),
    "proof:send": frozenset({Role.REVIEWER, Role.AUTHOR}),
    "approval:sign": frozenset({Role.REVIEWER, Role.APPROVER}),
    "approval:release": frozenset({Role.OPERATOR}),
    "workspace:view": _ANY,
    "workspace:configure": frozenset({Role.REVIEWER, Role.OPERATOR, Role.OWNER}),
    "people:manage": frozenset({Role.OWNER}),
}


def roles_for(permission: str) -> frozenset[Role]:
    """The roles that include a permission.

    Raises:
        KeyError: there is no such permission.
    """
    return PERMISSIONS[permission]
