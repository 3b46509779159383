"""Adoption that dies at any verb of the store and any transaction of the catalogue ends whole, and
exactly once.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import pytest
from pydantic import SecretStr
from sqlalchemy import func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.facts.run_orders import AdoptOrder
from fennox.core.format import notes
from fennox.core.format.manifest import Head
from fennox.core.time import stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import copy
from fennox.service.machines.context import Context
from fennox.service.runs import claims
from fennox.service.runs.claims import Claimant
from fennox.service.runs.journal import CatalogueJournal
from fennox.service.runs.lost_workers import LeaseWatch
from fennox.service.stores import adopt_run, adopted_store
from fennox.service.upkeep import store_runs
from fennox.stores.folder import FolderStore
from fennox.testing.stores import Died, StoppingStore
from fennox.wire.stores import AdoptStore
from tests.backups import SYSTEM, store_backup
from tests.conftest import PASSPHRASE, fixed_now, make_vault
from tests.engine.two_stores import holding, new_keys
from tests.service.running import came_to

CATALOGUE = (Copy, Backup, Run, System, Login, StoreRow, KeySet)


class Fate:
    """Counts what can be stopped at, in the store and in the catalogue, and dies at the one that
    was chosen.
    """

    def __init__(self, context: Context, folder: Path, at: int | None, *, after: bool) -> None:
        self._real, self._at, self._after, self._transactions = context.session, at, after, 0
        self.store = StoppingStore(FolderStore(folder), at, after=after)

    @property
    def verbs(self) -> int:
        return self.store.count

    @asynccontextmanager
    async def session(
        self, *, lasting: bool = True, single: bool = False
    ) -> AsyncIterator[AsyncSession]:
        """A transaction is a verb as well: the process dies before it is committed, or after."""
        self.store.count += 1
        number = self.store.count
        async with self._real(lasting=lasting, single=single) as session:
            yield session
            if number == self._at and not self._after:
                raise Died(f"at transaction {number}")
        if number == self._at and self._after:
            raise Died(f"at transaction {number}")


@pytest.fixture
async def filled(store_folder: Path) -> Path:
    """A store with three backups of one system, one of them held, and documents under random chunk
    keys.
    """
    vault, index = await make_vault(store_folder), PackIndex()
    for number in range(1, 4):
        documents = {
            f"/etc/ferry/page-{page}": f"{number * page} sailings\n".encode() * 40
            for page in range(3)
        }
        backup, _ = await store_backup(
            vault, index, documents, name=f"day-{number}", sequence=number, apart=number > 2
        )
    record = await vault.find_record(backup)
    held = notes.Note(
        fact="hold",
        backup=backup,
        system=SYSTEM,
        time=stamp(vault.now()),
        by="mara",
        reason="audit",
    )
    await vault.write_note(held, record.reference)
    return store_folder


def bytes_of(folder: Path) -> dict[str, bytes]:
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file()
    }


async def catalogue(context: Context) -> dict[str, Any]:
    """What the catalogue holds of the store, without what differs from one adoption to the next."""
    async with context.session() as session:
        backups = (await session.execute(select(Backup).order_by(Backup.sequence))).scalars().all()
        counts = {
            table.__name__: (
                await session.execute(select(func.count()).select_from(table))
            ).scalar_one()
            for table in CATALOGUE
            if table is not Run
        }
        systems = (await session.execute(select(System))).scalars().all()
        return {
            "backups": [
                (b.id, b.system_id, b.name, b.sequence, b.held_because, b.census, b.digest)
                for b in backups
            ],
            "systems": [(s.id, s.name, s.machine) for s in systems],
            "counts": counts,
        }


async def begin(context: Context, folder: Path, name: str = "attic") -> None:
    wanted = AdoptStore(name=name, address=str(folder), passphrase=SecretStr(PASSPHRASE))
    opened = await adopted_store.open_store(context, wanted)
    async with context.session() as session:
        row = await adopted_store.adopt_store(context, session, wanted, opened)
        await session.flush()
        await store_runs.enqueue_for_store(context, session, AdoptOrder(), row, "mara")


async def carry_out(context: Context) -> Run:
    """What a worker does with the run that waits."""
    async with context.session() as session:
        claimed = await claims.claim(session, Claimant("w"), 600, context.now())
    assert claimed is not None
    lease = claimed.lease
    await adopt_run.run_adopt(context, lease, CatalogueJournal(context, lease))
    async with context.session() as session:
        return await session.get_one(Run, lease.run)


async def adopt_until_done(context: Context) -> Run | None:
    """After a death the lease runs out, and the next worker goes on."""
    async with context.session() as session:
        await session.execute(
            text(
                "update runs set lease_until = now() - interval '1 second' where state = 'running'"
            )
        )
        await LeaseWatch(0).take_back(session, context.now())
        waiting = (await session.execute(select(Run.id).where(Run.state == "queued"))).first()
    return await carry_out(context) if waiting is not None else None


async def empty(context: Context) -> None:
    async with context.session() as session:
        names = ", ".join(table.__tablename__ for table in CATALOGUE)
        await session.execute(text(f"truncate {names} cascade"))
    context.stores._indexes.clear()


async def test_an_adoption_that_dies_anywhere_ends_whole(
    context: Context, filled: Path, monkeypatch: pytest.MonkeyPatch, step: int
) -> None:
    before = bytes_of(filled)
    await begin(context, filled)
    await carry_out(context)
    expected = await catalogue(context)
    assert [backup[2] for backup in expected["backups"]] == ["day-1", "day-2", "day-3"]
    assert expected["backups"][2][4] == "audit"
    at, deaths, ended = 1 - step, 0, {"begin": 0, "run": 0}
    while at < 1 or deaths:
        at, deaths = at + step, 0
        for after in (False, True):
            await empty(context)
            fate = Fate(context, filled, at, after=after)
            stage = "begin"
            with monkeypatch.context() as patch:
                patch.setattr(context, "session", fate.session)
                doors, store = context.stores, fate.store
                patch.setattr(doors, "session", fate.session)
                patch.setattr(doors, "far_side", lambda *_, store=store: store)
                patch.setattr(doors, "store", lambda *_, store=store, **__: _given(store))
                try:
                    await begin(context, filled)
                    stage = "run"
                    await carry_out(context)
                except Died:
                    deaths += 1
                    ended[stage] += 1
            context.stores._indexes.clear()  # a new process remembers nothing
            if stage == "begin" and not after:
                assert set((await catalogue(context))["counts"].values()) == {0}
            if not (await catalogue(context))["counts"]["StoreRow"]:
                await begin(context, filled)
            run = await adopt_until_done(context)
            assert run is None or (run.state, came_to(run, "unreadable")) == ("done", 0)
            assert await catalogue(context) == expected
    assert min(ended.values()) >= (4 if step == 1 else 1)
    assert sum(ended.values()) >= 60 // step
    assert bytes_of(filled) == before


async def test_two_stores_that_hold_the_same_are_adopted_side_by_side(
    context: Context, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    both, read = asyncio.Barrier(2), BackupReader.head

    async def head(reader: BackupReader) -> Head:
        await both.wait()  # neither has entered what the other is about to enter
        return await read(reader)

    monkeypatch.setattr(BackupReader, "head", head)
    keys = new_keys()
    one, two = [await holding(tmp_path / name, keys, fixed_now) for name in ("one", "two")]
    for number in range(1, 6):
        backup, _ = await store_backup(
            one.vault, one.index, {"/etc/ferry": b"%d sailings\n" % number}, sequence=number
        )
        await copy(one, two, await one.vault.find_record(backup), MemoryJournal())
    for name in ("one", "two"):
        await begin(context, tmp_path / name, name)
    runs = await asyncio.gather(carry_out(context), carry_out(context))
    assert [run.state for run in runs] == ["done", "done"]
    assert sum(came_to(run, "backups") for run in runs) == 5, "each backup is entered once"
    assert sum(came_to(run, "copies") for run in runs) == 5, "and once more as a copy"
    counts = (await catalogue(context))["counts"]
    assert (counts["Backup"], counts["Copy"], counts["System"]) == (5, 10, 1)


async def _given(store: StoppingStore) -> StoppingStore:
    return store
