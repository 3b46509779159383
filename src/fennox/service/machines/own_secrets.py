"""Secrets of the own state, sealed to key sets, so that a rebuilt service opens them."""

from __future__ import annotations

import asyncio
from datetime import datetime

from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.concerns import AlertRoute
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


def write_secret(key_set: str, generation: int) -> str:
    return f"write secret {key_set} {generation}"


async def seal_secrets(session: AsyncSession, keyfile: KeyFile, now: datetime) -> None:
    """Seal what is new or changed to every key set in use, so that each of them alone brings the
    service back.

    What has not changed keeps its sealed bytes, so that the next backup does not store them anew.
    """
    targets = await _seal_keys(session)
    wanted: dict[str, tuple[datetime, bytes, str]] = {}
    for login in (await session.execute(select(Login))).scalars():
        place = f"logins|{login.id}|secret"
        wanted[login_secret(login.id)] = (login.changed, login.sealed_secret, place)
    for user in (await session.execute(select(User))).scalars():
        if user.sealed_totp is not None and user.totp_since is not None:
            wanted[totp_secret(user.id)] = (
                user.totp_since,
                user.sealed_totp,
                f"users|{user.id}|totp",
            )
    for route in (await session.execute(select(AlertRoute))).scalars():
        if route.sealed_address is not None:
            wanted[alert_address(route.id)] = (
                route.created,
                route.sealed_address,
                f"alert_routes|{route.id}|address",
            )
        if route.sealed_secret is not None:
            wanted[alert_secret(route.id)] = (
                route.created,
                route.sealed_secret,
                f"alert_routes|{route.id}|secret",
            )
    for keys in (await session.execute(select(KeySet))).scalars():
        place = f"key_sets|{keys.id}|{keys.generation}|write secret"
        wanted[write_secret(keys.id, keys.generation)] = (
            keys.created,
            keys.sealed_write_secret,
            place,
        )
    for known in (await session.execute(select(SealedSecret))).scalars().all():
        if known.what not in wanted or (known.key_set, known.generation) not in targets:
            await session.execute(
                delete(SealedSecret).where(
                    SealedSecret.what == known.what,
                    SealedSecret.key_set == known.key_set,
                    SealedSecret.generation == known.generation,
                )
            )
    for (key_set, generation), seal_key in targets.items():
        for what, (changed, sealed, place) in wanted.items():
            there = await session.get(SealedSecret, (what, key_set, generation))
            if there is not None and there.made >= changed:
                continue
            info = sealed_info(what, key_set, generation)
            made = await asyncio.to_thread(seal_key.seal, keyfile.open(sealed, place), info)
            await session.merge(
                SealedSecret(
                    what=what,
                    key_set=key_set,
                    generation=generation,
                    made=max(now, changed),
                    sealed=made,
                )
            )


async def _seal_keys(session: AsyncSession) -> dict[tuple[str, int], SealKey]:
    """The public key of each key set in use, of its newest generation."""
    rows = (await session.execute(select(StoreRow).order_by(StoreRow.generation))).scalars().all()
    newest = {row.key_set: row for row in rows}
    return {
        (row.key_set, row.generation): headers.decode(row.header.encode()).public()
        for row in newest.values()
    }
