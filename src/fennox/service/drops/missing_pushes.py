"""What systems should have pushed and did not, and what lies at the drop and is taken by none."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Iterator
from datetime import datetime, timedelta

from sqlalchemy import select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.drops import DropAccount
from fennox.catalogue.models.systems import System
from fennox.core.evidence import pushes
from fennox.core.evidence.pushes import Lacking, Whole
from fennox.core.facts.concerns import ConcernFound
from fennox.core.format.manifest import Finding, Severity
from fennox.core.kinds.model import Kind
from fennox.core.kinds.pushes import Push
from fennox.core.kinds.sources import PartModel
from fennox.core.words import first_few
from fennox.service.drops.arrivals import all_pushes, judged, place_for, pushed_parts
from fennox.service.drops.drop_settings import is_on, read_status, settings_row
from fennox.service.drops.spools import SystemDrop, drop_of, has_spool, spool_of
from fennox.service.machines.context import Context

_GRACE = timedelta(hours=2)
_STUCK = timedelta(hours=1)
_NAMED = 3


async def lacking(
    context: Context, session: AsyncSession, systems: list[System]
) -> dict[str, list[Finding]]:
    """By system id."""
    found: dict[str, list[Finding]] = defaultdict(list)
    waiting = (
        set(await asyncio.to_thread(spool_of(context).systems)) if has_spool(context) else set()
    )
    installed = {name: context.kinds.installed(name) for name in {row.kind for row in systems}}
    pushing = {name for name, kind in installed.items() if kind is not None and all_pushes(kind)}
    mine = [
        (system, kind)
        for system in systems
        if (system.kind in pushing or system.id in waiting)
        and (kind := installed[system.kind]) is not None
    ]
    if not mine:
        return found
    receiving = is_on(await settings_row(session))
    accounts = set((await session.execute(select(DropAccount.system_id))).scalars())
    newest = await _newest(session, [system.id for system, _ in mine])
    for system, kind in mine:
        said = found[system.id]
        if not receiving and all_pushes(kind):
            said.append(_off(system))
        elif all_pushes(kind) and system.id not in accounts:
            said.append(_no_login(system))
        for part, push in pushed_parts(kind):
            last = newest.get((system.id, part.name))
            if (late := _late(system, part, push, last, context.now())) is not None:
                said.append(late)
        if system.id in waiting:
            said += await _lying(context, session, system, kind)
    return {name: listed for name, listed in found.items() if listed}


def _finding(severity: Severity, code: str, subject: str, text: str, remedy: str) -> Finding:
    return Finding(severity=severity, code=code, subject=subject, text=text, remedy=remedy)


def _off(system: System) -> Finding:
    return _finding(
        "warning",
        "drop-off",
        system.name,
        f"{system.name} pushes what it has, and the receiving end is off.",
        "Switch it on: fennox drop set --sftp HOST:PORT",
    )


def _no_login(system: System) -> Finding:
    return _finding(
        "warning",
        "drop-no-login",
        system.name,
        f"{system.name} pushes what it has, and has no login at the drop.",
        f"Run: fennox drop login add {system.name}",
    )


_NEWEST = text("""
select b.system_id, part ->> 'name', max(b.time)
from backups b, jsonb_array_elements(b.parts) part
where b.system_id = any(:systems) group by 1, 2
""")


async def _newest(session: AsyncSession, systems: list[str]) -> dict[tuple[str, str], datetime]:
    """When the newest backup of each part was taken, by system id and part."""
    rows = await session.execute(_NEWEST, {"systems": systems})
    return {(system, part): time for system, part, time in rows}


def _late(
    system: System, part: PartModel, push: Push, last: datetime | None, now: datetime
) -> Finding | None:
    assert push.every is not None
    since = last or system.created
    if now - since <= timedelta(hours=push.every) + _GRACE:
        return None
    when = f"last came {last:%Y-%m-%d %H:%M} UTC" if last else "never came"
    return _finding(
        "warning" if part.essential else "note",
        "push-missing",
        part.name,
        f"{part.title} {when}, and is due every {push.every} hours.",
        f"See what {system.name} says of its push, and: fennox drop show {system.name}",
    )


async def _lying(
    context: Context, session: AsyncSession, system: System, kind: Kind
) -> list[Finding]:
    drop = drop_of(context, system.id)
    found = []
    for one in await judged(kind, drop):
        if isinstance(one.judgement, Lacking):
            found.append(
                _finding(
                    "warning",
                    "push-not-whole",
                    one.part.name,
                    f"What was pushed as {one.part.title} is not whole, and is not taken:"
                    f" {' '.join(one.judgement.says)}",
                    f"Have {system.name} push again. To drop what lies there: fennox drop discard"
                    f" {system.name} FILE",
                )
            )
        elif isinstance(one.judgement, Whole) and not await place_for(session, system, one.part):
            found.append(
                _finding(
                    "warning",
                    "push-nowhere",
                    one.part.name,
                    f"{one.part.title} has arrived, and nothing says where it is kept.",
                    f"Add {system.name} to a routine: fennox routine add",
                )
            )
    found += await asyncio.to_thread(lambda: list(_strange(system, kind, drop)))
    return found


def _strange(system: System, kind: Kind, drop: SystemDrop) -> Iterator[Finding]:
    known = all_pushes(kind)
    arrivals = drop.arrivals()
    strange = [
        one.name for one in arrivals if not any(pushes.belongs(push, one.name) for push in known)
    ]
    if strange:
        yield _finding(
            "warning",
            "push-unexpected",
            strange[0],
            f"{system.name} pushed what its kind does not know: {first_few(strange, _NAMED)}. It is"
            " not taken.",
            f"Correct its kind, or drop it: fennox drop discard {system.name} FILE",
        )
    broken = [one.name for one in arrivals if one.problem and one.begun < drop.now() - _STUCK]
    if broken:
        yield _finding(
            "note",
            "push-broken",
            broken[0],
            f"{first_few(broken, _NAMED)} began to arrive and broke off.",
            f"Have {system.name} push again; it may go on where it broke off.",
        )


def not_listening(context: Context) -> list[ConcernFound]:
    """Where the receiving end should listen and cannot."""
    return [
        ConcernFound(
            "drop-not-listening",
            "high",
            "service",
            "drops",
            one.problem,
            "Free the address, or give another one: fennox drop set",
            "Systems push in vain.",
            subject=one.protocol,
        )
        for one in read_status(context.settings.state)
        if one.problem
    ]
