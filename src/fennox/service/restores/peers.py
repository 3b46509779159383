"""The other members of a replicated set, read as they are now."""

from __future__ import annotations

from sqlalchemy import select

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import FennoxError
from fennox.core.evidence.evaluation import Census
from fennox.core.facts.return_order import host_in
from fennox.core.kinds.model import Kind
from fennox.core.restoring import proving
from fennox.core.restoring.replicating import Peers
from fennox.core.restoring.sheet import Place
from fennox.engine.restoring.targets import look_at_target
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
