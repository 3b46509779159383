"""The scope of a person or token: the part of the estate they may see, count and act on. Reads are
filtered in one place: every statement of the request, whatever module issues it. Objects to change
are looked up through the same filter before their route runs; the route itself sees the whole
estate, because rules about other systems apply to everybody.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

from sqlalchemy import ColumnElement, and_, event, func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import ORMExecuteState, Session, with_loader_criteria

from fennox.catalogue.models.backups import Backup, Copy, Removal
from fennox.catalogue.models.concerns import ConcernRow
from fennox.catalogue.models.people import Approval
from fennox.catalogue.models.runs import Run, SheetRow
from fennox.catalogue.models.systems import HandedIn, System
from fennox.core.errors import BadInput
from fennox.service.people.persons import Scope
from fennox.service.queries.selectors import check_selector, selected, terms

_reading: ContextVar[Scope] = ContextVar("the caller's scope", default=None)

# plain tables, so that the filter does not apply to itself
_systems, _backups = System.__table__, Backup.__table__


def read_within(scope: Scope) -> None:
    """From here on this request reads nothing outside of ``scope``."""
    _reading.set(scope)


@contextmanager
def within(scope: Scope) -> Iterator[None]:
    """A context that limits reads to ``scope``."""
    before = _reading.set(scope)
    try:
        yield
    finally:
        _reading.reset(before)


@contextmanager
def whole() -> Iterator[None]:
    """A context without a scope, for decisions about the whole estate."""
    with within(None):
        yield


def is_narrow() -> bool:
    """Whether the caller's scope is narrower than the estate."""
    return _reading.get() is not None


def fits(scope: Scope) -> ColumnElement[bool]:
    """The condition for systems within a scope."""
    lists = [
        or_(*(and_(*_selected(selector)) for selector in selectors)) for selectors in scope or ()
    ]
    return and_(*lists) if lists else _systems.c.id.is_not(None)


async def reaches(session: AsyncSession, scope: Scope, system: System) -> bool:
    """Whether this scope includes ``system``."""
    found = await session.execute(
        select(_systems.c.id).where(_systems.c.id == system.id, fits(scope))
    )
    return found.first() is not None


def _selected(selector: str) -> list[ColumnElement[bool]]:
    found = [
        _systems.c.labels.contains([value]) if field == "label" else _systems.c[field] == value
        for field, value in terms(selector)
    ]
    return found or [_systems.c.id.is_not(None)]


@event.listens_for(Session, "do_orm_execute")
def _filter(asked: ORMExecuteState) -> None:
    scope = _reading.get()
    if scope is None or not asked.is_select:
        return
    systems = select(_systems.c.id).where(fits(scope))
    names = select(_systems.c.name).where(fits(scope))
    backups = select(_backups.c.id).where(_backups.c.system_id.in_(systems))
    asked.statement = asked.statement.options(
        _only(System, System.id.in_(systems)),
        _only(Backup, Backup.system_id.in_(systems)),
        _only(Copy, Copy.backup_id.in_(backups)),
        _only(Run, or_(Run.system_id.in_(systems), Run.backup_id.in_(backups))),
        _only(SheetRow, SheetRow.system_id.in_(systems)),
        _only(HandedIn, HandedIn.system_id.in_(systems)),
        _only(Removal, Removal.system_id.in_(systems)),
        _only(ConcernRow, and_(ConcernRow.noun == "system", ConcernRow.about.in_(names))),
        _only(Approval, Approval.system_id.in_(systems)),
    )


def _only(table: type[Any], criteria: ColumnElement[bool]) -> Any:
    return with_loader_criteria(table, criteria, include_aliases=True)


async def check(session: AsyncSession, selectors: Sequence[str] | None) -> None:
    """Raise ``BadInput`` if a scope is invalid or matches no system: a misspelt one would lock
    somebody out.
    """
    if selectors is None:
        return
    if not selectors:
        raise BadInput(
            "The scope is empty.",
            "Name systems, like site=holm, or leave the scope out.",
            field="scope",
        )
    for selector in selectors:
        check_selector(selector)
        count = select(func.count()).select_from(System).where(*selected(selector))
        if not (await session.execute(count)).scalar_one():
            raise BadInput(
                f"No system fits {selector}.",
                "`fennox system list` shows sites, labels and names.",
                field="scope",
            )
