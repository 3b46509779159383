"""The signed-in person and their permissions: role and rights, narrowed by the token used."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import get_args

from fennox.catalogue.models.people import Token, User
from fennox.core.errors import NotAllowed
from fennox.wire.access import Right, Role, TokenKind

COVERS: dict[Role, frozenset[Role]] = {
    "reader": frozenset({"reader"}),
    "auditor": frozenset({"reader", "auditor"}),
    "operator": frozenset({"reader", "operator"}),
    "administrator": frozenset({"reader", "auditor", "operator", "administrator"}),
}
"""Role → the roles whose acts it includes."""
RIGHTS: dict[Role, frozenset[Right]] = {
    "reader": frozenset(),
    "auditor": frozenset(),
    "operator": frozenset({"content"}),
    "administrator": frozenset(get_args(Right)),
}
"""Role → the rights that come with it unless a person was given others."""

Scope = tuple[tuple[str, ...], ...] | None
"""Lists of selectors: a system is within it if it fits one selector of each list. None: the whole
estate.
"""


@dataclass(frozen=True)
class Person:
    """The signed-in person. ``by_cookie``: a console, whose changes need a header that a foreign
    page cannot send. ``session``: id of the token used. ``proved``: authenticated within the last
    minutes (:mod:`grave_acts`).
    """

    id: str
    name: str
    role: Role
    rights: frozenset[Right]
    scope: Scope
    session: str
    kind: TokenKind
    by_cookie: bool
    proved: bool
    must_change: bool

    def may(self, needed: Role) -> bool:
        return needed in COVERS[self.role]


def covered(role: str) -> frozenset[Role]:
    """As :data:`COVERS`, for a role from the database."""
    return next(roles for name, roles in COVERS.items() if name == role)


def rights_of(role: Role, given: Sequence[str] | None) -> frozenset[Right]:
    if given is None:
        return RIGHTS[role]
    return frozenset(right for right in get_args(Right) if right in given)


def narrowed(own: Role, to: Role | None) -> Role:
    """The role of a token: never more than its person's present role. Incomparable roles give a
    reader's.
    """
    if to is None or own in COVERS[to]:
        return own
    return to if to in COVERS[own] else "reader"


def person_from(user: User, token: Token, *, by_cookie: bool, proved: bool) -> Person:
    own: Role = user.role  # type: ignore[assignment]  # the table's check holds it to the four
    narrow: Role | None = token.role  # type: ignore[assignment]
    kind: TokenKind = token.purpose  # type: ignore[assignment]
    role = narrowed(own, narrow)
    rights = rights_of(own, user.rights) & (
        rights_of(role, token.rights) if narrow else rights_of(own, user.rights)
    )
    lists = [tuple(selectors) for selectors in (user.scope, token.scope) if selectors is not None]
    return Person(
        id=user.id,
        name=user.name,
        role=role,
        rights=rights,
        scope=tuple(lists) or None,
        session=token.id,
        kind=kind,
        by_cookie=by_cookie,
        proved=proved,
        must_change=user.must_change,
    )


def must_have(who: Person, right: Right) -> None:
    """Raise unless the person has a right that is separate from roles."""
    if right not in who.rights:
        raise NotAllowed(
            f"You may not do this; it needs the right `{right}`.",
            f"An administrator gives it: fennox user set {who.name} --rights {right}",
        )
