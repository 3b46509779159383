"""Dependencies and replication between systems: entered by people, or found in captured
documents.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.systems import System
from fennox.core.evidence.evaluation import Census
from fennox.core.facts.return_order import host_in
from fennox.core.kinds.model import Kind
from fennox.links.base import parse_address
from fennox.service.foundation.fair_share import give_way
from fennox.service.machines.context import Context
from fennox.service.queries.newest_good import newest_backups, unhurried
from fennox.service.queries.selectors import PROTECTED

SAID = "somebody said so"
_TURN = 100  # systems processed before yielding this thread
_WAY = "the way to it leads through it"


@dataclass
class Related:
    """One system's relations, by names of systems. ``strangers``: named hosts that are not
    enrolled.
    """

    needs: dict[str, str] = field(default_factory=dict)
    peers: list[str] = field(default_factory=list)
    strangers: dict[str, str] = field(default_factory=dict)


async def relations(context: Context, session: AsyncSession) -> dict[str, Related]:
    """Relations of all systems. In custody apart the catalogue has no names, so only people's
    entries are known.
    """
    systems: list[System] = [row[0] for row in await unhurried(session, select(System))]
    systems.sort(key=lambda row: row.name)
    kinds = [
        kind
        for name in {system.kind for system in systems}
        if (kind := context.kinds.installed(name)) is not None
    ]
    wanted = sorted({listed for kind in kinds for listed in (*kind.relies_on, *_replicas(kind))})
    lists = newest_backups(
        Backup.id, *(Backup.census[listed].label(f"list_{n}") for n, listed in enumerate(wanted))
    )
    census = {}
    for number, row in enumerate(await unhurried(session, lists)):
        if number % _TURN == 0:
            await give_way(session)
        census[row.system] = dict(zip(wanted, (found or [] for found in row[2:]), strict=True))
    names = {system.id: system.name for system in systems}
    known = await faces(context, systems)
    found = {}
    for number, system in enumerate(systems):
        if number % _TURN == 0:
            await give_way(session)
        kind = context.kinds.installed(system.kind)
        found[system.name] = _related(system, kind, census.get(system.id, {}), names, known)
    return found


def _related(
    system: System,
    kind: Kind | None,
    census: Census,
    names: Mapping[str, str],
    known: dict[str, str],
) -> Related:
    """``names``: of systems by id; ``known``: system ids by their hosts."""
    related = Related(needs={names[one]: SAID for one in system.needs if one in names})
    if system.via_id:
        related.needs.setdefault(names[system.via_id], _WAY)
    if kind is None:
        return related
    for listed in kind.relies_on:
        for host in _hosts(census, listed):
            _name(related, system.name, host, known, f"named in its {listed}")
    if kind.replicas is not None:
        hosts = _hosts(census, kind.replicas.list)
        related.peers = sorted({known.get(host, host) for host in hosts} - {system.name})
    return related


async def resolved(context: Context, session: AsyncSession) -> dict[str, list[str]]:
    """The domains each system resolves, according to its newest good backup."""
    there = select(System.id, System.name, System.kind).where(PROTECTED)
    systems = (await session.execute(there)).all()
    kinds = [context.kinds.installed(name) for name in sorted({row.kind for row in systems})]
    resolving = {
        kind.name: kind.answers_for for kind in kinds if kind is not None and kind.answers_for
    }
    lists = sorted({listed for found in resolving.values() for listed in found})
    names = {row.id: row.name for row in systems if row.kind in resolving}
    if not names:
        return {}
    columns = [Backup.census[listed].label(f"list_{n}") for n, listed in enumerate(lists)]
    newest = (await session.execute(newest_backups(*columns).where(System.id.in_(names)))).all()
    return {
        names[row.system]: sorted(
            {domain.lower().rstrip(".") for found in row[1:] for domain in found or []}
        )
        for row in newest
    }


def _replicas(kind: Kind) -> list[str]:
    return [kind.replicas.list] if kind.replicas is not None else []


def _name(related: Related, own: str, host: str, known: dict[str, str], because: str) -> None:
    other = known.get(host)
    if other is None:
        related.strangers.setdefault(host, because)
    elif other != own:
        related.needs.setdefault(other, because)


def _hosts(census: dict[str, list[str]], listed: str) -> list[str]:
    hosts = (host_in(value) for value in census.get(listed, []))
    return sorted({host for host in hosts if host and not _own(host)})


def _own(host: str) -> bool:
    return host in ("localhost", "::1", "127.0.0.1", "127.0.0.53", "0.0.0.0", "::")  # noqa: S104 - compared, not bound to


async def faces(context: Context, systems: list[System]) -> dict[str, str]:
    """Names and addresses that identify each system. A name shared by two identifies none."""
    found: dict[str, set[str]] = {}
    for number, system in enumerate(systems):
        if number % _TURN == 0:
            await context.turns.give_way()
        own = {system.name, system.machine.name if system.machine else ""}
        if (kind := context.kinds.installed(system.kind)) is not None and kind.reach != "service":
            own.add(parse_address(system.address, 1).host)
        for face in own - {""}:
            found.setdefault(face, set()).add(system.name)
    return {face: next(iter(names)) for face, names in found.items() if len(names) == 1}
