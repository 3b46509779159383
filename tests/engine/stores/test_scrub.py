"""Every object of a store, damaged in every way: found, named, and healed from a second copy."""

from __future__ import annotations

import secrets
import shutil
from collections.abc import Callable
from functools import partial
from pathlib import Path

import pytest

from fennox.core.errors import StoreUnusable, Unreachable
from fennox.core.format import notes
from fennox.core.format.sweeps import Sweep
from fennox.core.names import ObjectName
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding, copy
from fennox.engine.stores.faults import GONE, Report, damaged_documents
from fennox.engine.stores.heal import heal
from fennox.engine.stores.scrub import Share, scrub
from fennox.engine.stores.sweep import sweep
from fennox.stores.base import Span, Store, Wrapped
from tests.backups import all_backups, read_back, store_backup
from tests.conftest import NOON, fixed_now
from tests.engine.rescue.test_rescue import rescue
from tests.engine.two_stores import SERVICE, holding, new_keys

NOISE = secrets.token_bytes(300_000)
DAYS = [
    {"/etc/hosts": b"127.0.0.1 pier\n", "/etc/big": NOISE},
    {"/etc/hosts": b"127.0.0.1 quay\n", "/etc/big": NOISE, "/etc/new": b"n" * 5000},
    {"/etc/hosts": b"127.0.0.1 holm\n", "/etc/new": b"m" * 5000},
]
WAYS = ["flip", "cut", "empty", "swap", "delete", "older"]
_USUAL = ("flip", "delete")


class Story:
    """Two stores with the same three backups."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.backups: list[str] = []

    async def begin(self) -> None:
        keys = new_keys()
        self.one, self.two = [
            await holding(self.folder / name, keys, fixed_now) for name in ("one", "two")
        ]
        for number, documents in enumerate(DAYS, start=1):
            backup, _ = await store_backup(
                self.one.vault, self.one.index, documents, sequence=number, name=f"d{number}"
            )
            await copy(
                self.one, self.two, await self.one.vault.find_record(backup), MemoryJournal()
            )
            self.backups.append(backup)
        for side in (self.one, self.two):
            record = await side.vault.find_record(self.backups[0])
            note = notes.Note(
                fact="hold",
                backup=self.backups[0],
                system="5e" * 16,
                time="20260301T120000Z",
                by="x",
            )
            await side.vault.write_note(note, record.reference)
            old = Sweep(
                stage="condemned",
                time="20260301T120000Z",
                by=SERVICE,
                condemned=["ab" * 32],
                removed=[],
            )
            await side.vault.write_sweep(old)

    def fresh(self) -> Holding:
        return Holding(self.one.vault, PackIndex())

    async def scrubbed(self) -> Report:
        return await scrub(self.fresh(), self.backups, MemoryJournal())

    async def healed(self) -> Report:
        here = self.fresh()
        report = await scrub(here, self.backups, MemoryJournal())
        copies = {backup: ["two"] for backup in self.backups}
        done = await heal(
            here, report, {"two": Holding(self.two.vault, PackIndex())}, copies, MemoryJournal()
        )
        assert done.left == {}
        return await self.scrubbed()

    async def whole(self) -> None:
        held = await self.one.vault.find_record(self.backups[0])
        said = (await self.one.vault.notes_of(self.one.vault.record_name(held.reference))).values()
        assert {note.fact for note in said} == {"hold"}
        for backup, documents in zip(self.backups, DAYS, strict=True):
            assert await read_back(self.one.vault, backup) == documents


def spoil(path: Path, way: str, objects: list[Path]) -> None:
    data = path.read_bytes()
    other = next(
        (
            o
            for o in objects
            if o != path and o.suffix == path.suffix and o.parts[-3] == path.parts[-3]
        ),
        None,
    )
    match way:
        case "flip":
            middle = len(data) // 2
            path.write_bytes(data[:middle] + bytes([data[middle] ^ 1]) + data[middle + 1 :])
        case "cut":
            path.write_bytes(data[: len(data) * 2 // 3])
        case "empty":
            path.write_bytes(b"")
        case "swap" | "older":
            path.write_bytes(other.read_bytes() if other is not None else b"another\n")
        case "delete":
            path.unlink()


@pytest.fixture(scope="module")
def anyio_backend() -> str:
    return "asyncio"


async def test_the_offline_reader_tells_a_healed_pack_from_damage(tmp_path: Path) -> None:
    story = Story(tmp_path)
    await story.begin()
    root = tmp_path / "one"
    pack = max(root.glob("packs/*/*.fxp"), key=lambda path: path.stat().st_size)
    spoil(pack, "flip", [])
    before = rescue(root, "check")
    assert before.returncode == 1
    assert f"DAMAGED packs/{pack.parent.name}/{pack.name}" in before.stderr
    assert (await story.healed()).lost == {}
    after = rescue(root, "check")
    assert after.returncode == 0, after.stderr
    assert "No damage found." in after.stderr, after.stderr
    assert f"condemned packs/{pack.parent.name}/{pack.name}" in after.stderr
    spoil(max(root.glob("sweep/*.fxc")), "flip", [])
    altered = rescue(root, "check")
    assert altered.returncode == 1, altered.stderr
    assert "DAMAGED sweep/" in altered.stderr, altered.stderr


@pytest.mark.parametrize(
    "way",
    [way if way in _USUAL else pytest.param(way, marks=pytest.mark.long) for way in WAYS],
)
async def test_each_object_damaged_in_this_way_is_found_named_and_healed(
    tmp_path: Path, way: str
) -> None:
    story = Story(tmp_path)
    await story.begin()
    root = tmp_path / "one"
    objects = sorted(path for path in root.rglob("*") if path.is_file())
    assert len(objects) >= 11
    assert (await story.scrubbed()).sound
    shutil.copytree(root, tmp_path / "untouched")
    for path in objects:
        if way == "delete" and path.suffix in (".fxn", ".fxc"):
            # nothing in a store names these, so nothing in it can miss them; the catalogue knows
            # holds too
            continue
        spoil(path, way, objects)
        name = path.relative_to(root).as_posix()
        report = await story.scrubbed()
        assert not report.sound, name
        if way == "delete" and name.startswith("packs/"):
            assert report.lost, f"{name} is gone, and no backup misses it"
        elif way == "delete" and name.endswith(".fxr"):
            assert len(report.records) == len(DAYS) - 1
        else:
            assert name.split("/")[0] in {fault.object.split("/")[0] for fault in report.faults}, (
                name
            )
        after = await story.healed()
        assert after.sound, (name, after.faults, after.lost)
        await story.whole()
        shutil.rmtree(root)
        shutil.copytree(tmp_path / "untouched", root)


async def test_what_a_sweep_removed_meanwhile_is_neither_missed_nor_brought_back(
    tmp_path: Path,
) -> None:
    story = Story(tmp_path)
    await story.begin()
    gone = story.backups[1]
    await sweep(story.fresh(), {gone: "no rung keeps it"}, SERVICE, NOON, MemoryJournal())
    assert (await story.scrubbed()).sound, "it was expected when the scrub began"
    assert (await story.healed()).sound
    assert gone not in await all_backups(story.one.vault)
    assert await read_back(story.two.vault, gone) == DAYS[1]


async def test_shares_together_read_every_pack_and_remember_what_others_found(
    tmp_path: Path,
) -> None:
    story = Story(tmp_path)
    await story.begin()
    packs = {
        path.relative_to(tmp_path / "one").as_posix() for path in (tmp_path / "one").rglob("*.fxp")
    }
    read: set[str] = set()
    for number in range(3):
        share = Share(number, 3)
        read |= {pack for pack in packs if share.holds(pack)}
        report = await scrub(story.one, story.backups, MemoryJournal(), share=share)
        assert (report.sound, report.passed_over) == (
            True,
            len([p for p in packs if not share.holds(p)]),
        )
    assert read == packs
    # the middle of the largest is content, which no list of chunks leads to
    spoiled = max(packs, key=lambda name: (tmp_path / "one" / name).stat().st_size)
    spoil(tmp_path / "one" / spoiled, "flip", [])
    other = next(share for number in range(3) if not (share := Share(number, 3)).holds(spoiled))
    unseen = await scrub(story.one, story.backups, MemoryJournal(), share=other)
    assert spoiled not in {fault.object for fault in unseen.faults}, (
        "it has its turn on another night"
    )
    known = await scrub(
        story.one, story.backups, MemoryJournal(), share=other, known={spoiled: "was damaged"}
    )
    assert spoiled in {fault.object for fault in known.faults}
    assert known.lost


class Leaving(Wrapped):
    """A store that is away after so many reads."""

    def __init__(self, inner: Store, reads: int, leave: Callable[[], None]) -> None:
        super().__init__(inner)
        self.reads, self.leave = reads, leave

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        self.reads -= 1
        if self.reads == 0:
            self.leave()
        return await self.inner.get(name, span)


def leaves(folder: Path, how: str) -> None:
    if how == "cut":
        raise Unreachable("The line was cut.", "Try again.")
    folder.rename(folder.with_name("away"))


@pytest.mark.parametrize("reads", [1, 2, 4])
@pytest.mark.parametrize("how", ["cut", "unmounted"])
async def test_a_store_that_goes_away_meanwhile_is_not_damaged(
    tmp_path: Path, how: str, reads: int
) -> None:
    """Everything that was still to be read was reported as damaged, and its backups with it."""
    story = Story(tmp_path)
    await story.begin()
    record = await story.one.vault.find_record(story.backups[1])
    root, here = story.one.vault.store, story.fresh()
    await here.index.refresh(here.vault)
    leave = partial(leaves, tmp_path / "one", how)
    expected = Unreachable if how == "cut" else StoreUnusable
    story.one.vault.store = Leaving(root, reads, leave)
    with pytest.raises(expected):
        await damaged_documents(BackupReader(here.vault, here.index, record))
    if how != "cut":
        (tmp_path / "away").rename(tmp_path / "one")
    story.one.vault.store = Leaving(root, reads, leave)
    with pytest.raises(expected):
        await scrub(story.one, story.backups, MemoryJournal())


async def test_each_fault_names_the_backups_that_need_it_and_packs_that_are_gone_are_faults(
    tmp_path: Path,
) -> None:
    story = Story(tmp_path)
    await story.begin()
    packs = sorted((tmp_path / "one/packs").rglob("*.fxp"), key=lambda path: -path.stat().st_size)
    needed = {}
    for backup in story.backups:
        record = await story.one.vault.find_record(backup)
        chunks = await BackupReader(story.one.vault, story.one.index, record).needed()
        needed[backup] = {
            place.pack.split("/")[-1] for c in chunks for place in story.one.index.places(c)
        }
    spoil(packs[0], "flip", [])
    packs[1].unlink()
    report = await story.scrubbed()
    costs = {name.split("/")[-1]: backups for name, backups in report.costs.items()}
    flipped = {backup for backup in story.backups if packs[0].name in needed[backup]}
    gone = {backup for backup in story.backups if packs[1].name in needed[backup]}
    assert 0 < len(flipped) < len(story.backups)
    assert costs == {packs[0].name: flipped, GONE: gone}
    assert sorted(fault.object.split("/")[-1] for fault in report.faults) == sorted(costs), (
        "each of them once"
    )


async def test_damage_is_told_down_to_the_documents(tmp_path: Path) -> None:
    story = Story(tmp_path)
    await story.begin()
    packs = sorted((tmp_path / "one/packs").rglob("*.fxp"), key=lambda path: -path.stat().st_size)
    spoil(packs[0], "flip", [])
    here = story.fresh()
    report = await scrub(here, story.backups, MemoryJournal())
    [fault] = report.faults
    assert fault.object.endswith(packs[0].name)
    assert set(report.lost) <= set(story.backups)
    assert report.lost
    told = {}
    for backup in report.lost:
        told[backup] = await damaged_documents(
            BackupReader(here.vault, here.index, report.records[backup])
        )
    assert any("settings /etc/" in line for lines in told.values() for line in lines)


async def test_without_another_copy_it_says_what_is_lost_and_changes_nothing_else(
    tmp_path: Path,
) -> None:
    story = Story(tmp_path)
    await story.begin()
    for pack in (tmp_path / "one/packs").rglob("*.fxp"):
        spoil(pack, "flip", [])
    here = story.fresh()
    report = await scrub(here, story.backups, MemoryJournal())
    done = await heal(here, report, {}, {}, MemoryJournal())
    assert set(done.left) == set(story.backups)
    assert all("no other store holds it" in why for why in done.left.values())


async def test_a_store_set_back_in_time_is_noticed_by_its_gap(tmp_path: Path) -> None:
    story = Story(tmp_path)
    await story.begin()
    [second] = (tmp_path / "one/systems").rglob("*.d2.*.fxr")
    second.unlink()
    report = await story.scrubbed()
    assert [fault.object for fault in report.faults] == [f"backup {story.backups[1][:12]}"]
    assert list(map(str, report.gaps)) == ["web-9: number 2 is not there, and no sweep removed it."]


async def test_strange_files_are_counted_and_left_alone(tmp_path: Path) -> None:
    story = Story(tmp_path)
    await story.begin()
    (tmp_path / "one/photos").mkdir()
    for number in range(2000):
        (tmp_path / f"one/photos/p{number}").write_bytes(b"")
    report = await story.scrubbed()
    assert report.sound
    assert report.foreign == 2000


async def test_a_header_of_somebody_else_is_named(tmp_path: Path) -> None:
    story = Story(tmp_path)
    await story.begin()
    stranger = await holding(tmp_path / "stranger", new_keys(), fixed_now)
    [theirs] = (tmp_path / "stranger/header").iterdir()
    shutil.copy(theirs, tmp_path / "one/header" / theirs.name)
    report = await story.scrubbed()
    assert stranger.vault.id != story.one.vault.id
    assert [fault.object for fault in report.faults] == [f"header/{theirs.name}"]
