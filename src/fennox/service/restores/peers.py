"""The other members of a replicated set, read as they are now."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import IS_ACTIVE, Run, SheetRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import Conflict, FennoxError
from fennox.core.evidence.evaluation import Census
from fennox.core.facts.return_order import host_in
from fennox.core.kinds.model import Kind
from fennox.core.restoring import proving
from fennox.core.restoring.replicating import Peers
from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.restoring.targets import look_at_target
from fennox.links.base import parse_address
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.systems.relations import faces


async def seen(context: Context, kind: Kind, own: System, census: Census) -> Peers:
    """Of each host that ``census``, a backup's, names as a member: what it has of the lists that
    matter, or why that is not known. ``own``: the restored system itself is passed over.
    """
    rule = kind.replicas
    if rule is None or rule.numbers is None:
        return {}
    async with context.session() as session:
        there = select(System).where(System.retired.is_(None), System.spare.is_(False))
        systems = list((await session.execute(there)).scalars())
        logins = {row.id: row for row in (await session.execute(select(Login))).scalars()}
    by_name, known = {row.name: row for row in systems}, await faces(context, systems)
    found: dict[str, Census | str] = {}
    for value in census.get(rule.list, []):
        host = host_in(value) or value
        system = by_name.get(known.get(host, ""))
        if system is None:
            found[host] = "it is not enrolled."
        elif system.id != own.id:
            login = logins.get(system.login_id or "")
            found[host] = await _read(context, kind, system, login)
    return found


async def must_be_alone(session: AsyncSession, row: SheetRow) -> None:
    """Two members of one set that come back at the same time would each take the other for a peer
    that is as it was. Raises Conflict.
    """
    own = _set_of(row.data)
    if not own:
        return
    lock = func.hashtext(f"replicas|{row.data.kind}")
    await session.execute(select(func.pg_advisory_xact_lock(lock)))
    others = (
        select(SheetRow)
        .join(Run, Run.sheet_id == SheetRow.id)
        .where(SheetRow.id != row.id, Run.kind == "restore", IS_ACTIVE)
    )
    for other in (await session.execute(others)).scalars():
        if other.data.kind == row.data.kind and own & _set_of(other.data):
            raise Conflict(
                f"{other.data.system_name}, a member of the same set, is being restored (run sheet"
                f" {other.id[:12]}).",
                "Wait until that is done, and draft this one then: the peers will be further.",
            )


def _set_of(sheet: Sheet) -> set[str]:
    """Hosts of a set that the restored copy will meet, its own among them."""
    plan = sheet.replica
    if plan is None or plan.stance == "apart":
        return set()
    peers = {host for one in plan.numbers for host in one.peers} | set(plan.unseen)
    return {*peers, parse_address(sheet.system_address, 1).host}


async def _read(context: Context, kind: Kind, system: System, login: Login | None) -> Census | str:
    if system.kind != kind.name or login is None:
        return f"it is a {system.kind}."
    assert kind.replicas is not None
    rule = kind.replicas
    wanted = [*(rule.equal or rule.lists), *filter(None, [rule.numbers])]
    parts = proving.parts_holding(kind, wanted)
    place = Place(address=system.address, account=login.account, key=system.key)
    try:
        use = login_uses.of_system(kind, system, login)
        link = await context.machines.connect(kind, use, way_to(system))
        try:
            settings = dict(system.settings)
            return (
                await look_at_target(kind, link, place, settings, parts, context.readings)
            ).census
        finally:
            await link.close()
    except FennoxError as error:
        return error.what
