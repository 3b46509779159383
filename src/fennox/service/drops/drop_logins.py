"""The account of a system at the drop: made with a secret that is shown once."""

from __future__ import annotations

import secrets
from itertools import chain, count

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.drops import DropAccount
from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput, NotFound
from fennox.drop.identity import certificate_fingerprint, public_line
from fennox.drop.logins import DropLogin, digest_of
from fennox.service.drops.drop_settings import (
    must_be_on,
    settings_row,
    told,
)
from fennox.service.machines.context import Context
from fennox.service.machines.sites import drop_of
from fennox.wire.drops import DropLoginMade, NewDropLogin


async def renew(
    context: Context, session: AsyncSession, system: System, wanted: NewDropLogin, by: str
) -> DropLoginMade:
    """Make the account, or give it a new secret; the one before opens nothing from then on."""
    settings = must_be_on(await settings_row(session))
    if system.retired is not None:
        raise BadInput(f"{system.name} is retired.", "Enrol the system that is to push.")
    secret = secrets.token_urlsafe(20)  # 160 bits
    keys = [_public(wanted.key)] if wanted.key else []
    row = await session.get(DropAccount, system.id)
    if row is None:
        account = await _free(session, system.name)
        row = DropAccount(system_id=system.id, account=account, keys=[])
        session.add(row)
    row.secret, row.made, row.by = digest_of(secret), context.now(), by
    row.keys = keys or row.keys
    await session.flush()
    at_site = await drop_of(session, system.site)
    through = bool((settings.sftp and at_site.sftp) or (settings.ftps and at_site.ftps))
    return DropLoginMade(
        system=system.name,
        account=row.account,
        secret=secret,
        folder="/",
        sftp=at_site.sftp if through and settings.sftp else told(settings, settings.sftp),
        ftps=at_site.ftps if through and settings.ftps else told(settings, settings.ftps),
        ftp="" if through else told(settings, settings.ftp),
        host_key=settings.host_key,
        certificate=certificate_fingerprint(settings.certificate),
    )


async def _free(session: AsyncSession, name: str) -> str:
    """The system's name; with a number where a system of that name has it and is called otherwise
    now.
    """
    like = select(DropAccount.account).where(DropAccount.account.startswith(name, autoescape=True))
    taken = set((await session.execute(like)).scalars())
    numbered = (f"{name}-{number}" for number in count(2))
    return next(one for one in chain([name], numbered) if one not in taken)


def _public(given: str) -> str:
    line = public_line(given)
    if line is None:
        raise BadInput("This is not a public key.", "Give the line of its .pub file.", field="key")
    return line


async def revoke(session: AsyncSession, system: System) -> None:
    row = await session.get(DropAccount, system.id)
    if row is None:
        raise NotFound(f"{system.name} has no login at the drop.", "There is nothing to revoke.")
    await session.delete(row)


async def all_logins(session: AsyncSession) -> list[DropLogin]:
    """For the receiver. Systems that are retired push no more."""
    rows = await session.execute(
        select(DropAccount)
        .join(System, System.id == DropAccount.system_id)
        .where(System.retired.is_(None))
    )
    return [
        DropLogin(row.account, row.system_id, row.secret, tuple(row.keys)) for row in rows.scalars()
    ]
