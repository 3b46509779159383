"""What a verify may say of backups and damage that it has read, and of those that it has not."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import delete, select

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.stores import KeySet, StoreDamage, StoreRow
from fennox.catalogue.models.systems import System
from fennox.core.facts.run_orders import VerifyOrder
from fennox.core.format import header as headers
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.faults import in_place_of
from fennox.service.machines.context import Context
from fennox.service.runs import claims
from fennox.service.runs.claims import Claimant
from fennox.service.upkeep import store_runs, verify_run
from tests.backups import SYSTEM, store_backup
from tests.engine.two_stores import holding, new_keys
from tests.service.contexts import START, add_backup, add_system
from tests.service.upkeep.test_store_runs import flip

DOCUMENTS = {"/etc/hosts": b"127.0.0.1 pier\n", "/etc/motd": b"Saltmere Quay\n"}


@dataclass
class Sweeping(MemoryJournal):
    """A journal at whose first check something else happens."""

    meanwhile: Callable[[], Awaitable[None]] | None = None

    async def check(self) -> None:
        await super().check()
        if self.meanwhile is not None and "Open backups and read every document" in self.steps:
            happens, self.meanwhile = self.meanwhile, None
            await happens()


async def a_store(context: Context, folder: Path, *, apart: bool = False) -> Holding:
    """A real store, and its rows in the catalogue."""
    keys = new_keys()
    here = await holding(folder, keys, context.now)
    place = f"key_sets|{keys.secret.key_set}|1"
    opening = None if apart else context.keyfile.seal(keys.opening.raw, f"{place}|opening key")
    async with context.session() as session:
        session.add(
            KeySet(
                id=keys.secret.key_set,
                generation=1,
                name="main",
                custody="apart" if apart else "kept",
                suite=keys.opening.suite,
                created=START,
                sealed_opening_key=opening,
                sealed_write_secret=context.keyfile.seal(keys.secret.raw, f"{place}|write secret"),
            )
        )
        session.add(
            StoreRow(
                id=here.vault.id,
                name="attic",
                address=str(folder),
                key_set=keys.secret.key_set,
                generation=1,
                header=headers.encode(here.vault.header).decode(),
                header_digest="",
                created=START,
            )
        )
    return here


async def a_backup(context: Context, here: Holding, sequence: int = 1) -> str:
    """A backup in the store and in the catalogue."""
    backup, _ = await store_backup(here.vault, here.index, DOCUMENTS, sequence=sequence)
    async with context.session() as session:
        known = await session.get(System, SYSTEM) is not None
    if not known:
        await add_system(context, "web-9", id=SYSTEM)
    record = await here.vault.find_record(backup)
    async with context.session() as session:
        (await session.get_one(System, SYSTEM)).folder = record.reference.folder
    return await add_backup(context, SYSTEM, here.vault.id, START, sequence, id=backup)


async def verify(context: Context, here: Holding, journal: MemoryJournal) -> None:
    async with context.session() as session:
        row = await session.get_one(StoreRow, here.vault.id)
        await store_runs.enqueue_for_store(context, session, VerifyOrder(), row, "schedule")
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant("w"), 30, context.now())
    assert claimed is not None
    await verify_run.run_verify(context, claimed[1], journal)


async def test_in_custody_apart_what_is_only_held_against_the_packs_clears_no_damage(
    context: Context, tmp_path: Path
) -> None:
    here = await a_store(context, tmp_path / "attic", apart=True)
    backup = await a_backup(context, here)
    async with context.session() as session:
        (
            await session.get_one(Copy, (backup, here.vault.id))
        ).damaged = "Cannot be read whole: /etc/hosts"
    journal = MemoryJournal()
    await verify(context, here, journal)
    async with context.session() as session:
        copy = await session.get_one(Copy, (backup, here.vault.id))
    assert copy.damaged == "Cannot be read whole: /etc/hosts"
    assert copy.verified is None
    assert any("not opened" in text for _, text in journal.lines)


async def test_a_backup_swept_meanwhile_was_not_read_whole(
    context: Context, tmp_path: Path
) -> None:
    here = await a_store(context, tmp_path / "attic")
    backup = await a_backup(context, here)
    async with context.session() as session:
        session.add(
            StoreDamage(
                store_id=here.vault.id,
                object=in_place_of(backup),
                what="lost",
                backups=[backup],
                found=START,
                how="",
            )
        )

    async def sweep() -> None:
        for record in (tmp_path / "attic").rglob("*.fxr"):
            record.unlink()
        async with context.session() as session:
            await session.execute(delete(Backup).where(Backup.id == backup))

    await verify(context, here, Sweeping(meanwhile=sweep))
    async with context.session() as session:
        [damage] = (await session.execute(select(StoreDamage))).scalars()
    assert damage.healed is None
    assert damage.backups == [backup]


async def test_a_backup_that_is_read_whole_needs_no_damage(
    context: Context, tmp_path: Path
) -> None:
    here = await a_store(context, tmp_path / "attic")
    backup = await a_backup(context, here)
    async with context.session() as session:
        session.add(
            StoreDamage(
                store_id=here.vault.id,
                object=in_place_of(backup),
                what="lost",
                backups=[backup],
                found=START,
                how="",
            )
        )
    await verify(context, here, MemoryJournal())
    async with context.session() as session:
        [damage] = (await session.execute(select(StoreDamage))).scalars()
        copy = await session.get_one(Copy, (backup, here.vault.id))
    assert damage.how == "it was read whole again"
    assert copy.verified is not None


async def test_an_object_that_costs_two_backups_is_one_line_of_damage(
    context: Context, tmp_path: Path
) -> None:
    here = await a_store(context, tmp_path / "attic")
    first, second = [await a_backup(context, here, number) for number in (1, 2)]
    pack = flip(tmp_path / "attic")
    await verify(context, here, MemoryJournal())
    async with context.session() as session:
        found = (await session.execute(select(StoreDamage))).scalars().all()
    assert [damage.object.rsplit("/", 1)[-1] for damage in found] == [pack.name]
    assert found[0].backups == sorted([first, second])
