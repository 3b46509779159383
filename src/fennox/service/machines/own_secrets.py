"""Secrets of Fennox's own state, sealed to key sets so that a rebuilt service can open them."""

from __future__ import annotations

import asyncio
from datetime import datetime
from typing import NamedTuple

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import AlertRoute
from fennox.catalogue.models.drops import DropSettings
from fennox.catalogue.models.people import User
from fennox.catalogue.models.stores import (
    KeySet,
    SealedSecret,
    StoreRow,
)
from fennox.catalogue.models.systems import Login
from fennox.core.format import header as headers
from fennox.core.format.primitives.hpke import SealKey
from fennox.service.foundation.key_file import KeyFile


def sealed_info(what: str, key_set: str, generation: int) -> bytes:
    """HPKE ``info`` of a sealed secret."""
    return f"fennox/1|own secret|{what}|{key_set}|{generation}".encode("ascii")


def login_secret(login: str) -> str:
    return f"login {login}"


def totp_secret(user: str) -> str:
    return f"totp {user}"


def alert_address(route: str) -> str:
    return f"alert address {route}"


def alert_secret(route: str) -> str:
    return f"alert secret {route}"


DROP_HOST_KEY = "drop host key"
DROP_CERTIFICATE_KEY = "drop certificate key"
HOST_KEY_PLACE = "drop_settings|1|host key"
CERTIFICATE_KEY_PLACE = "drop_settings|1|certificate key"


def write_secret(key_set: str, generation: int) -> str:
    return f"write secret {key_set} {generation}"


async def seal_secrets(session: AsyncSession, keyfile: KeyFile, now: datetime) -> None:
    """Seal new and changed secrets to every key set in use, so that each alone suffices to rebuild
    the service. Unchanged secrets keep their sealed bytes, so that the next backup does not store
    them again.
    """
    targets = await _seal_keys(session)
    wanted = {secret.what: secret for secret in await _secrets(session)}
    for known in (await session.execute(select(SealedSecret))).scalars().all():
        if known.what not in wanted or (known.key_set, known.generation) not in targets:
            await session.delete(known)
    await session.flush()
    for (key_set, generation), seal_key in targets.items():
        for secret in wanted.values():
            there = await session.get(SealedSecret, (secret.what, key_set, generation))
            if there is not None and there.made >= secret.changed:
                continue
            info = sealed_info(secret.what, key_set, generation)
            plain = keyfile.open(secret.sealed, secret.place)
            await session.merge(
                SealedSecret(
                    what=secret.what,
                    key_set=key_set,
                    generation=generation,
                    made=max(now, secret.changed),
                    sealed=await asyncio.to_thread(seal_key.seal, plain, info),
                )
            )


class _Secret(NamedTuple):
    """``sealed``: under the key file, for ``place``."""

    what: str
    changed: datetime
    sealed: bytes
    place: str


async def _secrets(session: AsyncSession) -> list[_Secret]:
    """Everything sealed under the key file that a rebuilt service needs."""
    found = []
    for login in (await session.execute(select(Login))).scalars():
        place = f"logins|{login.id}|secret"
        found.append(_Secret(login_secret(login.id), login.changed, login.sealed_secret, place))
    for user in (await session.execute(select(User))).scalars():
        if user.sealed_totp is not None and user.totp_since is not None:
            what, place = totp_secret(user.id), f"users|{user.id}|totp"
            found.append(_Secret(what, user.totp_since, user.sealed_totp, place))
    for route in (await session.execute(select(AlertRoute))).scalars():
        if route.sealed_address is not None:
            what, place = alert_address(route.id), f"alert_routes|{route.id}|address"
            found.append(_Secret(what, route.created, route.sealed_address, place))
        if route.sealed_secret is not None:
            what, place = alert_secret(route.id), f"alert_routes|{route.id}|secret"
            found.append(_Secret(what, route.created, route.sealed_secret, place))
    for drop in (await session.execute(select(DropSettings))).scalars():
        for what, sealed, place in (
            (DROP_HOST_KEY, drop.sealed_host_key, HOST_KEY_PLACE),
            (DROP_CERTIFICATE_KEY, drop.sealed_certificate_key, CERTIFICATE_KEY_PLACE),
        ):
            found.append(_Secret(what, drop.made, sealed, place))
    for keys in (await session.execute(select(KeySet))).scalars():
        what = write_secret(keys.id, keys.generation)
        place = f"key_sets|{keys.id}|{keys.generation}|write secret"
        found.append(_Secret(what, keys.created, keys.sealed_write_secret, place))
    return found


async def _seal_keys(session: AsyncSession) -> dict[tuple[str, int], SealKey]:
    """The public key of each key set in use, of its newest generation."""
    rows = (await session.execute(select(StoreRow).order_by(StoreRow.generation))).scalars().all()
    newest = {row.key_set: row for row in rows}
    return {
        (row.key_set, row.generation): headers.decode(row.header.encode()).public()
        for row in newest.values()
    }
