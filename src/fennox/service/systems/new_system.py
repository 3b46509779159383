"""Enrolling a system: connects to its machine, checks its key, and records its identity."""

from __future__ import annotations

import secrets

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.names import folder_name
from fennox.engine.reading.capture import identify
from fennox.links.base import Link, Web, parse_address
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import Way
from fennox.service.people.persons import Person
from fennox.service.systems import enrolment
from fennox.wire.machines.enrolling import NewSystem


async def new_system(context: Context, wanted: NewSystem, who: Person) -> System:
    """The row, not yet added. Raises BadInput, Conflict, KeyUnknown and Unreachable."""
    kind, _ = context.kinds.kind(wanted.kind)
    if kind.reach == "service":
        raise BadInput(
            "Fennox itself is not enrolled.", "Run: fennox own-state keep STORE", field="kind"
        )
    values_of(kind, wanted.settings)
    address = str(parse_address(wanted.address, kind.port))
    async with context.session() as session:
        login = await _login(session, kind, wanted.login)
        await login_uses.must_be_passwords(
            session, kind, wanted.settings, context.machines.keeps_rule
        )
        await enrolment.must_be_free(session, wanted.name, address, wanted.site)
        needs = [(await named(session, System, name)).id for name in wanted.needs]
        via = (await named(session, System, wanted.via)).id if wanted.via else None
    system_id = secrets.token_hex(16)
    row = System(
        id=system_id,
        name=wanted.name,
        folder=folder_name(wanted.name, system_id),
        kind=kind.name,
        address=address,
        login_id=login.id if login else None,
        key="",
        site=wanted.site,
        labels=wanted.labels,
        settings=dict(wanted.settings),
        needs=needs,
        via_id=via,
        patience=wanted.patience,
        spare=wanted.spare,
        created=context.now(),
    )
    if login is not None:
        use = login_uses.to_enrol(who, login, address, wanted.key, kind, wanted.settings)
        link = await context.machines.connect(kind, use, Way(wanted.site, via, wanted.patience))
        await _identify(row, kind, link)
    return row


async def add(session: AsyncSession, row: System) -> None:
    session.add(row)
    await session.flush()


async def _login(session: AsyncSession, kind: Kind, name: str | None) -> Login | None:
    """None: the kind has no connection to machines."""
    login = await named(session, Login, name) if name else None
    if (login is None) == kind.is_reached:
        what = "needs a login" if login is None else "is not reached, so it needs no login"
        raise BadInput(f"A {kind.title} {what}.", "Give --login, or leave it out.", field="login")
    return login


async def _identify(row: System, kind: Kind, link: Link) -> None:
    try:
        row.machine = await identify(kind, link, dict(row.settings))
        if (
            link.beside is not None
        ):  # a wrong login there is better known now than at the first take
            await link.beside.link()
    finally:
        await link.close()
    row.key = link.fingerprint
    row.key_until = link.until if isinstance(link, Web) else None
