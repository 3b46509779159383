"""Default logins of a kind's fresh installation, and whether a machine still accepts them."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import update

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import FennoxError, WrongLogin
from fennox.core.kinds.model import Kind
from fennox.engine.journal import Journal
from fennox.engine.reading.capture import identify
from fennox.links.base import Credential
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import Way, way_to

_AGAIN = timedelta(days=7)


async def still_working(
    context: Context, kind: Kind, address: str, used: Credential, key: str, way: Way
) -> list[str]:
    """The accepted accounts. Each login is tried once; the login in use is only compared."""
    found = []
    for default in kind.default_logins:
        tried = Credential(default.account, password=default.password)
        if (used.account, used.password) == (tried.account, tried.password) or await _enters(
            context, kind, address, tried, key, way
        ):
            found.append(default.account)
    return found


async def look_again(
    context: Context, kind: Kind, system: System, login: Login | None, journal: Journal
) -> None:
    """Checked by the first take, then weekly, and at every take while one works. A failed sign-in
    every night would fill the machine's log and could lock the account.
    """
    if not kind.default_logins or login is None or not _is_due(system, context.now()):
        return
    await journal.step("Try the logins of a fresh installation")
    try:
        works = await still_working(
            context,
            kind,
            system.address,
            context.machines.credentials.credential(login),
            system.key,
            way_to(system),
        )
    except FennoxError as error:
        await journal.log(
            "warning", f"Whether the login of a fresh installation works is not known: {error.what}"
        )
        return
    async with context.session() as session:
        values = {"default_logins": works, "defaults_tried": context.now()}
        await session.execute(update(System).where(System.id == system.id).values(values))


def _is_due(system: System, now: datetime) -> bool:
    return (
        bool(system.default_logins)
        or system.defaults_tried is None
        or now - system.defaults_tried >= _AGAIN
    )


async def _enters(
    context: Context, kind: Kind, address: str, tried: Credential, key: str, way: Way
) -> bool:
    try:
        link = await context.machines.try_credential(kind, address, tried, key, way)
    except WrongLogin:
        return False
    try:
        await identify(kind, link, {})
    except WrongLogin:
        return False
    finally:
        await link.close()
    return True
