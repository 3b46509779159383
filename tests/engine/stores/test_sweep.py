"""Sweeps: nothing that a record needs ever goes; what nothing needs goes after the grace."""

from __future__ import annotations

import contextlib
import os
import secrets
import tempfile
from datetime import datetime, timedelta
from pathlib import Path

import anyio
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fennox.core.errors import Damaged, Stopped, StoreUnusable
from fennox.core.format import notes, records
from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding, copy
from fennox.engine.stores.scrub import scrub
from fennox.engine.stores.sweep import Swept, sweep
from fennox.engine.stores.sweep_plan import plan
from fennox.testing.stores import Died, LockingStore, StoppingStore
from tests.backups import all_backups, once, read_back, store_backup
from tests.conftest import NOON, PASSPHRASE
from tests.engine.two_stores import SERVICE, holding, new_keys

CONTENTS = [secrets.token_bytes(size) for size in (10, 900, 70_000, 200_000, 260_000)]


class World:
    """One store and a clock that the test moves; files age with it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.clock: datetime = NOON

    async def begin(self, *, second: bool = False) -> None:
        keys = new_keys()
        self.here = await holding(self.folder / "one", keys, self.now)
        if second:
            self.there = await holding(self.folder / "two", keys, self.now)

    def now(self) -> datetime:
        self.clock += timedelta(seconds=1)
        return self.clock

    def pass_time(self, hours: float) -> None:
        self.clock += timedelta(hours=hours)

    def date_files(self) -> None:
        """Files were written now, by the test's clock."""
        for path in self.folder.rglob("*"):
            if path.is_file() and path.stat().st_mtime > self.clock.timestamp():
                os.utime(path, (self.clock.timestamp(), self.clock.timestamp()))

    async def take(self, documents: dict[str, bytes], sequence: int) -> str:
        await self.here.index.refresh(self.here.vault)
        backup, _ = await store_backup(
            self.here.vault, self.here.index, documents, sequence=sequence
        )
        self.date_files()
        return backup

    async def sweep(self, expired: dict[str, str] | None = None, by: str = SERVICE) -> Swept:
        self.date_files()
        done = await sweep(self.here, expired or {}, by, self.now(), MemoryJournal())
        self.date_files()
        return done

    def packs(self) -> set[str]:
        return {path.name for path in (self.folder / "one").rglob("*.fxp")}


@pytest.fixture
async def world(tmp_path: Path) -> World:
    made = World(tmp_path)
    await made.begin()
    return made


async def test_what_nothing_keeps_goes_after_the_grace_and_not_before(world: World) -> None:
    old = await world.take({"/a": CONTENTS[4]}, 1)
    new = await world.take({"/b": CONTENTS[3]}, 2)
    before = world.packs()
    world.pass_time(72)
    preview = await plan(world.here, {old: "no rung keeps it"}, world.now(), MemoryJournal())
    assert [records.short_id(name) for name in preview.expired] == [old[:8]]
    assert preview.later > len(CONTENTS[4])
    assert await all_backups(world.here.vault) == [old, new]
    first = await world.sweep({old: "no rung keeps it"})
    assert (first.records, first.deleted, first.freed) == ([old], 0, 0)
    assert first.condemned >= 1
    assert world.packs() >= before
    world.pass_time(24)
    assert (await world.sweep()).deleted == 0
    world.pass_time(25)
    second = await world.sweep()
    assert second.freed > len(CONTENTS[4])
    assert await all_backups(world.here.vault) == [new]
    assert await read_back(world.here.vault, new) == {"/b": CONTENTS[3]}
    assert (await scrub(Holding(world.here.vault, PackIndex()), [new], MemoryJournal())).sound


async def test_a_held_backup_stays_whatever_the_ladder_says(world: World) -> None:
    backup = await world.take({"/a": CONTENTS[2]}, 1)
    record = await world.here.vault.find_record(backup)
    note = notes.Note(
        fact="hold",
        backup=backup,
        system="5e" * 16,
        time="20260301T120000Z",
        by="x",
        reason="audit",
    )
    await world.here.vault.write_note(note, record.reference)
    world.pass_time(72)
    assert (await world.sweep({backup: "too old"})).records == []
    assert await all_backups(world.here.vault) == [backup]


async def test_one_unreadable_record_stops_the_sweep_before_it_changes_anything(
    world: World,
) -> None:
    backup = await world.take({"/a": CONTENTS[2]}, 1)
    await world.take({"/b": CONTENTS[1]}, 2)
    name = world.here.vault.record_name((await world.here.vault.find_record(backup)).reference)
    path = world.folder / "one" / name
    whole = path.read_bytes()
    path.write_bytes(whole[:-1] + bytes([whole[-1] ^ 1]))
    held = sorted(world.folder.rglob("*"))
    with pytest.raises(Damaged):
        await world.sweep({backup: "too old"})
    assert sorted(world.folder.rglob("*")) == held


async def test_only_the_service_named_in_the_header_sweeps(world: World) -> None:
    with pytest.raises(StoreUnusable, match="Another service"):
        await world.sweep(by="00" * 16)


async def test_a_take_that_relied_on_a_pack_condemned_meanwhile_does_not_commit(
    world: World,
) -> None:
    old = await world.take({"/a": CONTENTS[4]}, 1)
    world.pass_time(72)
    vault = world.here.vault
    await world.here.index.refresh(vault)
    writer = BackupWriter(vault, world.here.index, await vault.condemned())
    await writer.add_content(once(CONTENTS[4]))  # finds its chunks in the old pack
    await world.sweep({old: "too old"})
    assert writer.relies_on(await vault.condemned())


async def test_a_record_that_came_although_its_pack_was_condemned_keeps_the_pack(
    world: World,
) -> None:
    old = await world.take({"/a": CONTENTS[4]}, 1)
    world.pass_time(72)
    vault = world.here.vault
    blind = vault.condemned
    await world.sweep({old: "too old"})
    vault.condemned = _nothing  # type: ignore[method-assign]  # a take whose last look was just before
    late = await world.take({"/a": CONTENTS[4]}, 2)
    vault.condemned = blind  # type: ignore[method-assign]
    world.pass_time(49)
    assert (await world.sweep()).deleted == 0
    world.pass_time(49)
    await world.sweep()
    assert await read_back(vault, late) == {"/a": CONTENTS[4]}


async def _nothing(known: object = None) -> frozenset[str]:
    return frozenset()


async def test_packs_that_are_mostly_dead_are_packed_anew(world: World) -> None:
    first = await world.take({"/a": CONTENTS[4], "/b": CONTENTS[1]}, 1)
    second = await world.take({"/b": CONTENTS[1]}, 2)
    world.pass_time(72)
    done = await world.sweep({first: "too old"})
    assert done.repacked == 1
    world.pass_time(49)
    assert (await world.sweep()).freed > len(CONTENTS[4])
    assert await read_back(world.here.vault, second) == {"/b": CONTENTS[1]}


async def test_many_small_packs_become_one(world: World) -> None:
    backups = [await world.take({"/a": os.urandom(400)}, number) for number in range(1, 20)]
    world.pass_time(72)
    assert (await world.sweep()).repacked >= 19
    world.pass_time(49)
    await world.sweep()
    assert len(world.packs()) <= 2
    assert await all_backups(world.here.vault) == backups
    assert (await scrub(Holding(world.here.vault, PackIndex()), backups, MemoryJournal())).sound


async def test_a_pack_of_keys_unknown_here_is_never_swept(world: World) -> None:
    await world.take({"/a": CONTENTS[1]}, 1)
    stranger = World(world.folder / "strange")
    stranger.folder.mkdir()
    await stranger.begin()
    await stranger.take({"/s": CONTENTS[2]}, 1)
    for pack in (stranger.folder / "one/packs").rglob("*.fxp"):
        (world.folder / "one/packs/2026-03" / pack.name).write_bytes(pack.read_bytes())
    held = world.packs()
    world.pass_time(72)
    await world.sweep()
    world.pass_time(72)
    await world.sweep()
    assert world.packs() >= held


class _StopAfter(MemoryJournal):
    """Stops at the n-th point where a run may be stopped."""

    def __init__(self, left: int) -> None:
        super().__init__()
        self._left = left

    async def check(self) -> None:
        self._left -= 1
        if self._left < 0:
            raise Stopped("Stopped.", "Go on.")


async def test_a_sweep_may_be_stopped_at_every_point(tmp_path: Path) -> None:
    world = World(tmp_path)
    await world.begin()
    keep: dict[str, dict[str, bytes]] = {}
    sequence = 0
    for stop in range(14):
        sequence += 1
        gone = await world.take({"/x": os.urandom(3000), "/y": CONTENTS[1]}, sequence)
        sequence += 1
        documents = {"/y": CONTENTS[1], f"/k{stop}": os.urandom(2000)}
        keep[await world.take(documents, sequence)] = documents
        world.pass_time(72)
        with contextlib.suppress(Stopped):
            await sweep(world.here, {gone: "too old"}, SERVICE, world.now(), _StopAfter(stop))
        world.date_files()
        world.here = Holding(world.here.vault, PackIndex())
        await world.here.index.refresh(world.here.vault)
        for backup, held in keep.items():
            assert await read_back(world.here.vault, backup) == held
    for _ in range(3):
        world.pass_time(72)
        there = await all_backups(world.here.vault)
        await world.sweep({backup: "too old" for backup in there if backup not in keep})
    assert sorted(await all_backups(world.here.vault)) == sorted(keep)
    assert (await scrub(Holding(world.here.vault, PackIndex()), keep, MemoryJournal())).sound
    assert sum(path.stat().st_size for path in world.folder.rglob("*.fxp")) < 120_000


moves = st.one_of(
    st.tuples(
        st.just("take"),
        st.dictionaries(st.sampled_from("abc"), st.sampled_from(CONTENTS), min_size=1),
    ),
    st.tuples(st.just("copy"), st.integers(0, 5)),
    st.tuples(st.just("hold"), st.integers(0, 5)),
    st.tuples(st.just("expire"), st.integers(0, 5)),
    st.tuples(st.just("sweep"), st.integers(0, 30)),
    st.tuples(st.just("wait"), st.sampled_from([1, 30, 50, 100])),
    st.tuples(st.just("restart"), st.just(0)),
    st.tuples(st.just("crash"), st.integers(0, 12)),
    st.tuples(st.just("adopt"), st.just(0)),
)


async def live(story: list[tuple[str, object]], folder: Path) -> None:
    """Play takes, copies, holds, expiries, sweeps that are cut short, crashes, adoptions against
    two dictionaries.
    """
    world = World(folder)
    await world.begin(second=True)
    here: dict[str, dict[str, bytes]] = {}
    there: dict[str, dict[str, bytes]] = {}
    expired: dict[str, str] = {}
    held: set[str] = set()
    for number, (what, value) in enumerate(story, start=1):
        known = sorted(here)
        chosen = (
            known[int(str(value)) % len(known)]
            if known and what in ("copy", "hold", "expire")
            else None
        )
        if what == "take":
            assert isinstance(value, dict)
            documents = {f"/{path}": data for path, data in value.items()}
            here[await world.take(documents, number)] = documents
        elif what == "crash":
            await _crash(world, number, int(str(value)), here)
        elif what == "adopt":
            await _adopted(world, here, held)
        elif what == "wait":
            world.pass_time(int(str(value)))
        elif what == "restart":
            world.here = Holding(world.here.vault, PackIndex())
        elif what == "sweep":
            with contextlib.suppress(Stopped):
                await sweep(world.here, expired, SERVICE, world.now(), _StopAfter(int(str(value))))
        elif chosen is not None:
            record = await world.here.vault.find_record(chosen)
            if what == "copy":
                await copy(world.here, world.there, record, MemoryJournal())
                there[chosen] = here[chosen]
            elif what == "hold" and chosen not in expired:
                note = notes.Note(
                    fact="hold", backup=chosen, system="5e" * 16, time="20260301T120000Z", by="x"
                )
                await world.here.vault.write_note(note, record.reference)
                held.add(chosen)
            elif what == "expire":
                expired[chosen] = "too old"
        world.date_files()
        left = set(await all_backups(world.here.vault))
        for backup in set(here) - left:
            assert backup in expired, "a backup went that nobody expired"
            assert backup not in held, "a held backup went"
            del here[backup]
    for model, store in ((here, world.here), (there, world.there)):
        assert sorted(await all_backups(store.vault)) == sorted(model)
        for backup, documents in model.items():
            assert await read_back(store.vault, backup) == documents


async def _crash(world: World, number: int, verb: int, here: dict[str, dict[str, bytes]]) -> None:
    """A take dies at some verb; if its record was put, it was taken, though nobody was told."""
    whole = world.here.vault.store
    known = set(await all_backups(world.here.vault))
    world.here.vault.store = StoppingStore(whole, verb, after=number % 2 == 0)
    documents = {"/a": CONTENTS[number % len(CONTENTS)], "/crash": bytes([number])}
    with contextlib.suppress(Died):
        await world.take(documents, number)
    world.here.vault.store = whole
    world.here = Holding(world.here.vault, PackIndex())
    for backup in set(await all_backups(world.here.vault)) - known:
        here[backup] = documents


async def _adopted(world: World, here: dict[str, dict[str, bytes]], held: set[str]) -> None:
    """Somebody who has only the store and a passphrase learns all that is known of its backups."""
    found = await opened_store.open_with_passphrase(world.here.vault.store, PASSPHRASE, world.now)
    good, bad = await record_lists.list_backups(found)
    assert bad == []
    assert {record.reference.backup for record in good} == set(here)
    for record in good:
        said = notes.merge(
            list((await found.notes_of(found.record_name(record.reference))).values())
        )
        assert said.held == (record.reference.backup in held)
        assert await read_back(found, record.reference.backup) == here[record.reference.backup]


@settings(max_examples=30)
@given(st.lists(moves, min_size=2, max_size=14))
def test_any_story_of_takes_copies_and_sweeps_keeps_what_it_must(
    story: list[tuple[str, object]],
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        anyio.run(live, story, Path(folder))


async def test_what_the_far_side_locks_stays_until_the_lock_ends_and_packs_in_use_are_locked_on(
    world: World,
) -> None:
    locking = LockingStore(world.here.vault.store, lock=timedelta(days=30), now=lambda: world.clock)
    world.here.vault.store = locking
    old = await world.take({"/a": CONTENTS[4], "/shared": CONTENTS[3]}, 1)
    [record] = await world.here.vault.record_names()
    first_end = locking.locks[record]
    assert first_end - world.clock <= timedelta(days=30)
    world.pass_time(24 * 20)
    new = await world.take({"/shared": CONTENTS[3]}, 2)
    [newer] = set(await world.here.vault.record_names()) - {record}
    relied_on = [
        name for name in world.here.index.packs if locking.locks[name] >= locking.locks[newer]
    ]
    assert relied_on, "the packs of the new backup are locked as long as its record"
    before = locking.extended
    await world.take({"/shared": CONTENTS[3]}, 3)
    assert locking.extended == before, "a lock that is long enough is not asked for again"
    waiting = await world.sweep({old: "no rung keeps it"})
    assert (waiting.records, waiting.locked.objects, waiting.locked.until) == ([], 1, first_end)
    assert record in await world.here.vault.record_names()
    world.pass_time(24 * 11)
    gone = await world.sweep({old: "no rung keeps it"})
    assert gone.records == [old]
    world.pass_time(24 * 3)
    await world.sweep()
    assert await read_back(world.here.vault, new) == {"/shared": CONTENTS[3]}
    assert (await scrub(world.here, {new}, MemoryJournal())).gaps == []


async def test_a_process_that_never_saw_a_pack_asks_the_far_side_for_its_lock(world: World) -> None:
    locking = LockingStore(world.here.vault.store, lock=timedelta(days=30), now=lambda: world.clock)
    world.here.vault.store = locking
    await world.take({"/a": CONTENTS[4]}, 1)
    world.here = Holding(world.here.vault, PackIndex())
    world.pass_time(24 * 40)
    await world.take({"/a": CONTENTS[4]}, 2)
    assert min(locking.locks[name] for name in world.here.index.packs) > world.clock + timedelta(
        days=29
    )


@pytest.mark.parametrize("days", [365, -365])
async def test_a_far_side_whose_clock_is_a_year_off_loses_nothing_and_gets_its_room_back(
    world: World, days: int
) -> None:
    def date_files() -> None:
        there = (world.clock + timedelta(days=days)).timestamp()
        for path in world.folder.rglob("*"):
            if path.is_file():
                os.utime(path, (there, there))

    world.date_files = date_files  # type: ignore[method-assign]
    old = await world.take({"/a": CONTENTS[4]}, 1)
    new = await world.take({"/b": CONTENTS[3]}, 2)
    before = world.packs()
    for _ in range(3):
        await world.sweep({old: "no rung keeps it"})
        world.pass_time(49)
    assert world.packs() < before
    assert await read_back(world.here.vault, new) == {"/b": CONTENTS[3]}
    assert (await scrub(world.here, {new}, MemoryJournal())).sound
