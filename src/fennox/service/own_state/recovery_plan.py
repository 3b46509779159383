"""The content of a recovery sheet. It contains no readable secret: a thief of the sheet has
addresses, but still needs a passphrase.
"""

from __future__ import annotations

import asyncio
import base64
import socket
from hashlib import sha256
from urllib.parse import urlsplit

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox import __version__
from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import FennoxError
from fennox.core.facts.return_order import in_order
from fennox.core.format import header as headers
from fennox.core.format.header import Header
from fennox.core.time import parse_stamp
from fennox.engine.backups.opened_store import rescue_source
from fennox.links.base import Credential
from fennox.service.machines import own_secrets
from fennox.service.machines.context import Context
from fennox.service.queries.newest_good import among, newest_backups
from fennox.service.systems.relations import relations
from fennox.service.upkeep import store_anchors
from fennox.stores import addresses
from fennox.wire.recovery import RecoverySheet, SealedLogin, StoreOnSheet, SystemOnSheet

_PATIENCE = 3.0  # seconds for a name lookup


async def sheet(context: Context, session: AsyncSession) -> RecoverySheet:
    logins = {row.id: row for row in (await session.execute(select(Login))).scalars()}
    rows = list((await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars())
    names = {row.id: row.name for row in rows}
    newest = {
        row.system: row for row in await session.execute(newest_backups(Backup.id, Backup.time))
    }
    held: dict[str, list[str]] = {}
    wanted = [backup.id for backup in newest.values()]
    for copy in (
        await session.execute(select(Copy).where(among(Copy.backup_id, wanted), Copy.damaged == ""))
    ).scalars():
        held.setdefault(copy.backup_id, []).append(names[copy.store_id])
    systems = []
    for row in (
        await session.execute(select(System).where(~System.spare).order_by(System.name))
    ).scalars():
        backup = newest.get(row.id)
        systems.append(
            SystemOnSheet(
                name=row.name,
                kind=row.kind,
                address=row.address,
                account=logins[row.login_id].account if row.login_id else None,
                machine=row.machine.id if row.machine else "",
                product=_product(row),
                rebuilt_by=_rebuilt_by(context, row),
                newest=backup.time if backup else None,
                backup=backup.id if backup else None,
                held_in=sorted(held.get(backup.id, [])) if backup else [],
            )
        )
    order = in_order(
        {name: related.needs for name, related in (await relations(context, session)).items()}
    )
    return RecoverySheet(
        made=context.now(),
        version=__version__,
        service=context.service_id,
        reader_sha256=sha256(rescue_source()).hexdigest(),
        stores=[await _store(context, session, row, logins) for row in rows],
        systems=systems,
        waves=order.waves,
        circles=order.circles,
    )


def _product(row: System) -> str:
    told = (row.machine.product, row.machine.version) if row.machine else ()
    return " ".join(one for one in told if one)


def _rebuilt_by(context: Context, row: System) -> str:
    try:
        return context.kinds.kind(row.kind)[0].rebuilt_by
    except FennoxError:  # a kind no longer installed: its backups contain it
        return ""


async def _store(
    context: Context, session: AsyncSession, row: StoreRow, logins: dict[str, Login]
) -> StoreOnSheet:
    keys = await session.get_one(KeySet, (row.key_set, row.generation))
    header = headers.decode(row.header.encode())
    return StoreOnSheet(
        name=row.name,
        id=row.id,
        address=row.address,
        reached_at=await _numbers(row.address),
        account=logins[row.login_id].account if row.login_id else None,
        key=row.key,
        site=row.site,
        key_set=keys.name,
        custody=keys.custody,
        suite=header.suite,
        generation=row.generation,
        passphrases=[
            f"{slot.label}, since {parse_stamp(slot.since):%Y-%m-%d %H:%M} UTC"
            for slot in header.slots
        ],
        header_name=headers.name(header),
        header_digest=row.header_digest,
        header=row.header,
        login=_login(context, row, logins.get(row.login_id or ""), header),
        anchors=await store_anchors.for_sheet(session, row),
    )


def _login(
    context: Context, row: StoreRow, login: Login | None, header: Header
) -> SealedLogin | None:
    """The login, sealed to the store's key set, so that the passphrase for the backups also unlocks
    access to them.
    """
    if login is None or login.proves_by not in ("key", "password"):
        return None
    info = own_secrets.sealed_info(
        own_secrets.login_secret(login.id), row.key_set, header.generation
    )
    secret = context.keyfile.open(login.sealed_secret, f"logins|{login.id}|secret")
    return SealedLogin(
        name=login.name,
        account=login.account,
        proves_by=login.proves_by,
        info=info.decode("ascii"),
        sealed=base64.b64encode(header.public().seal(secret, info)).decode("ascii"),
    )


async def _numbers(text: str) -> list[str]:
    """The addresses behind a name, since after a disaster it may not resolve."""
    address = addresses.parse(text)
    host = (
        urlsplit(address.options["endpoint"]).hostname
        if "endpoint" in address.options
        else address.host
    )
    if address.scheme == "file" or not host:
        return []
    try:
        async with asyncio.timeout(_PATIENCE):
            found = await asyncio.get_running_loop().getaddrinfo(
                host, None, type=socket.SOCK_STREAM
            )
    except (OSError, TimeoutError):
        return []
    numbers = sorted({str(item[4][0]) for item in found})
    return [] if numbers == [host] else numbers


def login_of(store: StoreOnSheet, passphrase: str) -> Credential | None:
    """A store's login for the sheet; None if it needs none, or an agent holds it."""
    if store.login is None:
        return None
    header = headers.decode(store.header.encode())
    secret = (
        header.unlock(passphrase)
        .open(base64.b64decode(store.login.sealed), store.login.info.encode())
        .decode()
    )
    if store.login.proves_by == "key":
        return Credential(store.login.account, private_key=secret)
    return Credential(store.login.account, password=secret)
