"""Resealing everything sealed under the service's keys after a key was added."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import Base
from fennox.catalogue.models.concerns import AlertRoute
from fennox.catalogue.models.drops import DropSettings
from fennox.catalogue.models.people import Audit, User
from fennox.catalogue.models.stores import KeySet
from fennox.catalogue.models.systems import HandedIn, Login
from fennox.service.access_control import local_recovery, second_factors
from fennox.service.concerns import alert_messages
from fennox.service.drops.spools import has_spool, spool_of
from fennox.service.foundation.key_file import KeyFile
from fennox.service.machines import own_secrets
from fennox.service.machines.context import Context
from fennox.service.takes import hand_ins


@dataclass(frozen=True)
class SealedColumn:
    """A column with sealed values, and the place bound into each."""

    table: type[Base]
    column: str
    place: Callable[[Any], str]


SEALED = (
    SealedColumn(Login, "sealed_secret", lambda row: f"logins|{row.id}|secret"),
    SealedColumn(
        KeySet,
        "sealed_write_secret",
        lambda row: f"key_sets|{row.id}|{row.generation}|write secret",
    ),
    SealedColumn(
        KeySet, "sealed_opening_key", lambda row: f"key_sets|{row.id}|{row.generation}|opening key"
    ),
    SealedColumn(User, "sealed_totp", lambda row: second_factors.place(row.id)),
    SealedColumn(AlertRoute, "sealed_secret", lambda row: alert_messages.secret_place(row.id)),
    SealedColumn(AlertRoute, "sealed_address", lambda row: alert_messages.address_place(row.id)),
    SealedColumn(DropSettings, "sealed_host_key", lambda _row: own_secrets.HOST_KEY_PLACE),
    SealedColumn(
        DropSettings, "sealed_certificate_key", lambda _row: own_secrets.CERTIFICATE_KEY_PLACE
    ),
    SealedColumn(HandedIn, "sealed", lambda row: hand_ins.place(row.system_id, row.document)),
)
NOT_OURS = frozenset({("runs", "sealed_opening_key"), ("sealed_secrets", "sealed")})
"""Columns that are sealed to other keys: a run's worker's, and the key sets'."""


async def seal_anew(session: AsyncSession, keys: KeyFile) -> int:
    """Reseal values under older keys with the newest, in the caller's transaction. Returns their
    number.
    """
    count = 0
    for one in SEALED:
        for row in (await session.execute(select(one.table).with_for_update())).scalars().all():
            sealed: bytes | None = getattr(row, one.column)
            if not sealed or keys.opens_by_newest(sealed, one.place(row)):
                continue
            setattr(row, one.column, keys.seal(keys.open(sealed, one.place(row)), one.place(row)))
            count += 1
    return count


async def rotate(context: Context, *, forget: bool) -> int:
    """Add a new key and reseal everything under it, or drop the older keys. Returns the number of
    resealed values. The new key is used as soon as the file is replaced, and the old one still
    opens its values: after an interrupted rotation, the next one resumes.
    """
    if not forget:
        await asyncio.to_thread(context.keyfile.add_key)
    count = await asyncio.to_thread(spool_of(context).seal_anew) if has_spool(context) else 0
    async with context.session() as session:
        count += await seal_anew(session, context.keyfile)
        action = "forgot the older keys of" if forget else "rotated the key of"
        session.add(
            Audit(
                at=context.now(),
                by=local_recovery.BY,
                action=action,
                noun="service",
                name="fennox",
                details={"resealed": str(count)},
            )
        )
    if forget:
        await asyncio.to_thread(context.keyfile.keep_newest)
    return count
