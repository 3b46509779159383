"""Rebuilding from the own state: it dies anywhere and is begun anew; what does not open is passed
over and named.
"""

from __future__ import annotations

import itertools
from collections.abc import AsyncIterator
from pathlib import Path

import pytest
from sqlalchemy import func, select, text

from fennox.catalogue import schema
from fennox.catalogue.models.base import Base
from fennox.catalogue.models.runs import Run
from fennox.core.errors import Conflict, Outdated
from fennox.engine.backups import opened_store
from fennox.service.foundation import key_file, session_guard
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context, open_context
from fennox.service.machines.own_state_link import KEPT
from fennox.service.own_state import own_backup, rebuild_service, rebuilt_secrets
from fennox.stores.base import Store
from fennox.stores.folder import FolderStore
from fennox.testing.stores import Died
from fennox.wire.backups import NewTake
from fennox.wire.ownstate import OwnStateWanted
from fennox.wire.stores import NewStore
from tests.conftest import fixed_now
from tests.service.contexts import SetClock
from tests.service.fate import Fate, Mortal
from tests.service.running import PASSPHRASE, Service, until


@pytest.fixture
def attic(service: Service) -> Path:
    """A store that holds two backups of the own state; the service is gone."""
    folder = service.folder / "attic"
    folder.mkdir()
    with service.client() as client:
        client.add_store(NewStore(name="attic", address=str(folder), passphrase=PASSPHRASE))
        client.keep_own_state(OwnStateWanted(store="attic", on_this_machine=True))
        until(lambda: client.own_state().newest is not None, "the own state is taken")
        own = client.own_state().system
        assert own is not None
        assert service.ended(client.take(NewTake(system=own, store="attic")).id).state == "done"
    service.stop()
    return folder


@pytest.fixture
async def empty(
    second_database: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> AsyncIterator[Context]:
    settings = Settings(database=second_database, state=tmp_path / "new", weak_slots=True)
    monkeypatch.setattr(session_guard, "strict", True)
    made = await open_context(settings, SetClock(), key_file.load(settings.state), simulated=True)
    yield made
    await made.engine.dispose()


async def rebuild(context: Context, store: Store) -> rebuilt_secrets.Rebuilt:
    """What ``fennox rebuild`` does once the database is migrated and the place of the store is
    known.
    """
    async with context.session() as session:
        await rebuild_service.must_be_empty(session)
    vault = await opened_store.open_with_passphrase(store, PASSPHRASE, fixed_now)
    return await rebuild_service.rebuild(
        context, await own_backup.find(vault, None), store.address, None
    )


async def rows(context: Context) -> dict[str, int]:
    async with context.session() as session:
        return {
            name: (
                await session.execute(select(func.count()).select_from(Base.metadata.tables[name]))
            ).scalar_one()
            for name in KEPT
        }


async def adoptions(context: Context) -> int:
    """Whatever the stores got since then is read from them by these."""
    async with context.session() as session:
        queued = (
            select(func.count()).select_from(Run).where(Run.kind == "adopt", Run.state == "queued")
        )
        return (await session.execute(queued)).scalar_one()


async def test_it_dies_anywhere_and_leaves_nothing_or_all(
    attic: Path, empty: Context, monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest
) -> None:
    before = await rows(empty)
    await rebuild(empty, FolderStore(attic))
    whole = await rows(empty)
    assert whole["backups"] >= 1
    deaths = 0
    for at in itertools.count(1, int(request.config.getoption("--points"))):
        died = 0
        for after in (False, True):
            async with empty.session() as session:
                await session.execute(
                    text(f"truncate {', '.join(set(KEPT) - {'service_state'})} cascade")
                )
            fate = Fate(at, after)
            with monkeypatch.context() as patch:
                patch.setattr(empty, "session", fate.session(empty.session))
                patch.setattr(empty.stores, "session", empty.session)
                try:
                    await rebuild(empty, Mortal(FolderStore(attic), fate))
                except Died:
                    died += 1
            if await rows(empty) == before:
                await rebuild(empty, FolderStore(attic))
            else:
                with pytest.raises(Conflict, match="in use"):
                    await rebuild(empty, FolderStore(attic))
            assert await rows(empty) == whole, f"died at {at}, {'after' if after else 'before'} it"
            assert await adoptions(empty) == 1
        deaths += died
        if not died:
            break
    assert deaths >= 4


async def test_the_newest_that_does_not_open_is_named_and_the_one_before_it_serves(
    attic: Path, empty: Context
) -> None:
    vault = await opened_store.open_with_passphrase(FolderStore(attic), PASSPHRASE, fixed_now)
    held = [
        ((await vault.read_record(name)).reference, name) for name in await vault.record_names()
    ]
    (older, _), (_, newest) = sorted(held, key=lambda one: one[0].sequence)
    path = attic / newest
    path.write_bytes(path.read_bytes()[:-1] + bytes([path.read_bytes()[-1] ^ 1]))
    done = await rebuild(empty, FolderStore(attic))
    assert [newest in line for line in done.left] == [True], done.left
    async with empty.session() as session:
        details = (
            await session.execute(text("select details from audit where action = 'rebuilt'"))
        ).scalar_one()
    assert details["backup"] == older.backup


async def test_a_state_of_a_newer_fennox_is_refused_and_nothing_is_changed(
    attic: Path, empty: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = await rows(empty)
    monkeypatch.setattr(schema, "NUMBER", "0015")
    with pytest.raises(Outdated, match="newer Fennox"):
        await rebuild(empty, FolderStore(attic))
    assert await rows(empty) == before
