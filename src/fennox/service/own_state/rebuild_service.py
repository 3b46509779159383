"""Rebuilding the service on an empty machine from a store and a passphrase."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from sqlalchemy import func, insert, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.base import Base
from fennox.catalogue.models.people import Audit, User
from fennox.catalogue.models.runs import IS_ACTIVE, Run
from fennox.catalogue.models.service import ServiceState
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import Conflict, Damaged
from fennox.core.facts.run_orders import AdoptOrder
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.service.machines import own_state_link
from fennox.service.machines.context import Context
from fennox.service.machines.own_state_link import KEPT, KeptTable, Row
from fennox.service.own_state.own_backup import Documents, OwnBackup, fetched, lines
from fennox.service.own_state.own_routine import KIND
from fennox.service.own_state.rebuilt_secrets import Rebuilt, SecretsAnew
from fennox.service.runs import new_runs

_ROWS = 500  # rows written at a time
_REASON = "The service was rebuilt from a backup that was taken while this run went on."


async def must_be_empty(session: AsyncSession) -> None:
    for model in (User, System, StoreRow):
        if (await session.execute(select(func.count()).select_from(model))).scalar_one():
            raise Conflict(
                "The database is in use: it has users, systems or stores.",
                "Give an empty one with --database.",
            )


async def rebuild(context: Context, own: OwnBackup, address: str, key: str | None) -> Rebuilt:
    """Write the whole state in one transaction. ``address``, ``key``: of the store as found now."""
    opening = own.vault.opening_key()
    done = Rebuilt(left=[f"Look at this: {text}" for text in own.passed])
    with TemporaryDirectory(prefix="fennox-rebuild-") as folder:  # nobody else may enter the folder
        documents = await fetched(own.reader, Path(folder))
        return await _write(context, own, opening, documents, done, (address, key))


async def _write(
    context: Context,
    own: OwnBackup,
    opening: OpeningKey,
    documents: Documents,
    done: Rebuilt,
    found_at: tuple[str, str | None],
) -> Rebuilt:
    async with context.session() as session:
        await must_be_empty(session)
        secrets_of = SecretsAnew(own.vault, opening, context.keyfile, done)
        secrets_of.read(documents)
        for table in Base.metadata.sorted_tables:
            if table.name in KEPT and table.name != "service_state":
                kept = KEPT[table.name]
                done.rows[table.name] = await _fill(session, documents, kept, secrets_of)
                await _go_on_counting(session, kept)
        await _take_its_place(session, documents)
        await _found_at(session, own.vault.id, *found_at)
        await _end_runs(session, context)
        for store in (
            (await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars().all()
        ):
            await new_runs.enqueue(
                session,
                AdoptOrder(standing=True),
                new_runs.About(store_id=store.id),
                by="rebuild",
                now=context.now(),
            )
        session.add(
            Audit(
                at=context.now(),
                by="rebuild",
                action="rebuilt",
                noun="service",
                name=KIND,
                details={"backup": own.record.reference.backup, "store": own.vault.id},
            )
        )
    return done


async def _fill(
    session: AsyncSession, documents: Documents, kept: KeptTable, known: SecretsAnew
) -> int:
    batch: list[Row] = []
    count = 0

    async def flush() -> None:
        if batch:
            await session.execute(insert(kept.table), batch)
            batch.clear()

    for line in lines(documents, kept.table.name):
        try:
            row = own_state_link.parse_row(kept, line)
        except (ValueError, AttributeError) as error:
            raise Damaged(
                f"A row of {kept.table.name} cannot be read.", "Try an older backup."
            ) from error
        known.restore(kept.table.name, row)
        batch.append(row)
        count += 1
        if len(batch) >= _ROWS:
            await flush()
    await flush()
    return count


async def _go_on_counting(session: AsyncSession, kept: KeptTable) -> None:
    """Sequences continue after the largest number in use."""
    for column in kept.table.columns:
        if column.identity is not None:
            sequence = func.pg_get_serial_sequence(kept.table.name, column.name)
            await session.execute(
                select(func.setval(sequence, func.coalesce(func.max(column), 0) + 1, False))
            )


async def _take_its_place(session: AsyncSession, documents: Documents) -> None:
    """Take over the identity of the former service."""
    for line in lines(documents, "service_state"):
        row = own_state_link.parse_row(KEPT["service_state"], line)
        await session.execute(
            update(ServiceState).values(id=row["id"], created=row["created"], setup_code=None)
        )


async def _found_at(session: AsyncSession, store: str, address: str, key: str | None) -> None:
    row = await session.get(StoreRow, store)
    if row is not None:
        row.address = address
        row.key = key if key is not None else row.key
        row.stopped_because = ""


async def _end_runs(session: AsyncSession, context: Context) -> None:
    going = update(Run).where(IS_ACTIVE)
    await session.execute(
        going.values(state="stopped", reason=_REASON, remedy="", ended=context.now())
    )
