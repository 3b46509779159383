"""Every damage that can be done to a store, and what the offline reader and a scrub say of it."""

from __future__ import annotations

import asyncio
import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from fennox.core.format import header as headers
from fennox.core.format import notes, sweeps
from fennox.core.format.anchors import Anchors, SystemAnchor, ranges
from fennox.core.format.primitives.hpke import CLASSIC
from fennox.engine.backups import opened_store, record_lists
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.heal import heal
from fennox.engine.stores.scrub import scrub
from fennox.stores.folder import FolderStore
from tests.backups import SYSTEM
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.rescue.test_rescue import rescue
from tests.golden.make import make

RECORDS = "systems/web-9-5e5e5e5e/*"
OBJECTS = {
    "newest header": "header/2.*",
    "older header": "header/1.*",
    "readme": "READ-ME-FIRST.txt",
    "first record": f"{RECORDS}.first.*.fxr",
    "middle record": f"{RECORDS}.second.*.g2.fxr",
    "old record of a backup sealed anew": "systems/web-9-5e5e5e5e/*.second.????????.fxr",
    "newest record": f"{RECORDS}.odd.*.fxr",
    "anchor": "anchors/*.fxa",
    "note": f"{RECORDS}.g2.*.fxn",
    "sweep list": "sweep/*.fxc",
    "large pack": "packs/*/*.fxp",
    "small pack": "packs/*/*.fxp",
}


def _flip(at: float) -> Callable[[Path], None]:
    def flip(path: Path) -> None:
        data = bytearray(path.read_bytes())
        data[min(int(len(data) * at), len(data) - 1)] ^= 1
        path.write_bytes(data)

    return flip


def _changed(change: Callable[[bytes], bytes]) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        path.write_bytes(change(path.read_bytes()))

    return write


def _move(path: Path) -> None:
    other = path.parent.parent / "quay-mail-00000000"
    other.mkdir()
    path.rename(other / path.name)


def _rename(path: Path) -> None:
    words = path.name.split(".")
    path.rename(
        path.with_name(
            ".".join([words[0].translate(str.maketrans("0123456789", "1234567890")), *words[1:]])
        )
    )


def _swap(path: Path) -> None:
    other = next(
        one for one in sorted(path.parent.iterdir()) if one != path and one.suffix == path.suffix
    )
    mine, theirs = path.read_bytes(), other.read_bytes()
    path.write_bytes(theirs)
    other.write_bytes(mine)


DAMAGES: dict[str, Callable[[Path], None]] = {
    "first byte": _flip(0),
    "a byte near the beginning": _flip(0.05),
    "middle byte": _flip(0.5),
    "last byte": _flip(1),
    "cut": _changed(lambda data: data[:-1]),
    "cut in half": _changed(lambda data: data[: len(data) // 2]),
    "longer": _changed(lambda data: data + b"x"),
    "empty": _changed(lambda _: b""),
    "removed": Path.unlink,
    "renamed": _rename,
    "moved": _move,
    "swapped": _swap,
}

MISSED_BY_SCRUB = {
    ("sweep list", "removed"),
    ("anchor", "removed"),  # nothing is left behind that could tell
    ("large pack", "moved"),
    ("small pack", "moved"),  # to another folder of packs, from where they are read
}
FOUND_BY_ANCHORS = {("newest record", "removed"), ("note", "removed"), ("first record", "removed")}
FOUND_BY_NOBODY = {
    # what is removed whole leaves nothing behind that could tell
    ("newest record", "removed"),
    ("note", "removed"),
    ("sweep list", "removed"),
    ("anchor", "removed"),
    # the reader of a person: what does not name the store is read as text alone
    ("readme", "first byte"),
    ("readme", "a byte near the beginning"),
    ("readme", "middle byte"),
    ("readme", "last byte"),
    ("readme", "cut"),
    ("readme", "longer"),
}
NOT_DONE = {
    ("readme", "swapped"),
    ("readme", "renamed"),
    ("readme", "moved"),
    ("newest header", "moved"),
    ("older header", "moved"),
    ("anchor", "moved"),
    ("anchor", "swapped"),
    ("sweep list", "moved"),
    ("sweep list", "swapped"),
    ("note", "swapped"),
}
CASES = [(what, damage) for what in OBJECTS for damage in DAMAGES if (what, damage) not in NOT_DONE]
QUICK = ("middle byte", "removed", "renamed")
"""What `make test` does to objects, one to each in turn; `make soak` does everything to all."""

MARKED_CASES = [
    pytest.param(
        what,
        damage,
        marks=[] if damage == QUICK[number % len(QUICK)] else [pytest.mark.long],
        id=f"{what}-{damage}".replace(" ", "-"),
    )
    for number, what in enumerate(OBJECTS)
    for damage in DAMAGES
    if (what, damage) in CASES
]


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Three backups, of which one is sealed anew and held, under two key generations, and a sweep
    list.
    """
    folder = tmp_path_factory.mktemp("whole") / "store"

    async def build() -> None:
        await make(folder, CLASSIC)
        vault = await opened_store.open_with_passphrase(FolderStore(folder), PASSPHRASE, fixed_now)
        gone = sweeps.RemovedBackup(
            name="systems/web-9-5e5e5e5e/x.fxr", why="the ladder", system="5e" * 16, sequence=6
        )
        sweep = sweeps.Sweep(
            stage="removed", time="20260304T120000Z", by="f" * 32, condemned=[], removed=[gone]
        )
        (folder / "sweep").mkdir(exist_ok=True)
        data = sweeps.encode(sweep, vault.secret, vault.id, b"s" * 32)
        (folder / "sweep/20260304T120000Z.abcdef0123456789.fxc").write_bytes(data)

    asyncio.run(build())
    return folder


@pytest.fixture
def store(whole: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(whole, tmp_path / "store"))


def victim(store: Path, what: str) -> Path:
    found = sorted(store.glob(OBJECTS[what]), key=lambda path: (path.stat().st_size, path.name))
    return found[-1] if what == "large pack" else found[0]


def test_a_whole_store_is_whole(store: Path) -> None:
    done = rescue(store, "check")
    assert done.returncode == 0
    assert "No damage found." in done.stderr
    assert "What nobody can find here" in done.stderr


def test_there_are_enough_damages() -> None:
    assert len(CASES) > 100


@pytest.mark.parametrize(("what", "damage"), MARKED_CASES)
def test_a_damage_is_found(store: Path, what: str, damage: str) -> None:
    path = victim(store, what)
    DAMAGES[damage](path)
    done = rescue(store, "check")
    assert "Traceback" not in done.stderr, done.stderr
    if (what, damage) in FOUND_BY_NOBODY:
        assert done.returncode == 0, done.stderr
        assert "What nobody can find here" in done.stderr, done.stderr
        return
    if (what, damage) == ("first record", "removed"):
        assert done.returncode == 0, done.stderr
        assert "UNCLEAR record 1 of web-9" in done.stderr, done.stderr
        assert "No damage found." not in done.stderr
        return
    assert done.returncode == 1, done.stderr
    assert "DAMAGED" in done.stderr, done.stderr


@pytest.fixture(scope="module")
def sheet(whole: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What a recovery sheet tells of the whole store."""
    made = tmp_path_factory.mktemp("sheet") / "sheet.json"
    made.write_text(json.dumps({"stores": [asyncio.run(_told(whole))]}))
    return made


async def _told(folder: Path) -> dict[str, Any]:
    vault = await opened_store.open_with_passphrase(FolderStore(folder), PASSPHRASE, fixed_now)
    records, _ = await record_lists.list_backups(vault)
    notes = list((folder / "systems").rglob("*.fxn"))
    anchor = SystemAnchor(
        system=SYSTEM,
        name="web-9",
        folder="web-9-5e5e5e5e",
        notes=len(notes),
        digest="",
        numbers=ranges(record.reference.sequence for record in records),
    )
    told = Anchors(
        store=vault.id, time="20260401T120000Z", by="f" * 32, generation=2, systems=[anchor]
    )
    return {"id": vault.id, "anchors": told.model_dump(mode="json")}


@pytest.mark.parametrize(("what", "damage"), sorted(FOUND_BY_ANCHORS), ids=str)
def test_what_is_gone_without_a_trace_is_found_by_what_was_told(
    store: Path, sheet: Path, what: str, damage: str
) -> None:
    assert rescue(store, "check", "--against", str(sheet)).returncode == 0
    DAMAGES[damage](victim(store, what))
    done = rescue(store, "check", "--against", str(sheet))
    assert done.returncode == 1, done.stderr
    assert "missing" in done.stderr, done.stderr


@pytest.mark.parametrize(("what", "damage"), MARKED_CASES)
async def test_a_scrub_finds_it_too(store: Path, what: str, damage: str) -> None:
    vault = await opened_store.open_with_passphrase(FolderStore(store), PASSPHRASE, fixed_now)
    expected = [record.reference.backup for record in (await record_lists.list_backups(vault))[0]]
    told = Anchors.model_validate((await _told(store))["anchors"])
    before = await scrub(Holding(vault, PackIndex()), expected, MemoryJournal(), told=[told])
    assert before.sound, [before.faults, before.gaps, before.losses]
    DAMAGES[damage](victim(store, what))
    report = await scrub(Holding(vault, PackIndex()), expected, MemoryJournal(), told=[told])
    assert report.sound == ((what, damage) in MISSED_BY_SCRUB), report.faults


@pytest.mark.parametrize("damage", ["renamed", "moved"])
async def test_a_note_in_a_wrong_place_is_put_back(store: Path, damage: str) -> None:
    vault = await opened_store.open_with_passphrase(FolderStore(store), PASSPHRASE, fixed_now)
    path = victim(store, "note")
    DAMAGES[damage](path)
    here = Holding(vault, PackIndex())
    report = await scrub(here, [], MemoryJournal())
    healed = await heal(here, report, {}, {}, MemoryJournal())
    assert list(healed.objects.values()) == ["removed; what it says is beside its record"]
    assert (await scrub(here, [], MemoryJournal())).faults == []
    assert notes.merge(await vault.read_notes("web-9-5e5e5e5e")).held_because == "before the move"


async def test_a_sweep_list_under_a_wrong_name_goes_on_explaining(store: Path) -> None:
    vault = await opened_store.open_with_passphrase(FolderStore(store), PASSPHRASE, fixed_now)
    told = [sweep.model_dump() for sweep in await vault.sweep_lists()]
    DAMAGES["renamed"](victim(store, "sweep list"))
    here = Holding(vault, PackIndex())
    report = await scrub(here, [], MemoryJournal())
    assert list((await heal(here, report, {}, {}, MemoryJournal())).objects.values()) == [
        "rewritten under its name"
    ]
    assert (await scrub(here, [], MemoryJournal())).sound
    assert sorted(map(str, told)) == sorted(
        str(sweep.model_dump()) for sweep in await vault.sweep_lists()
    )


async def test_a_header_of_earlier_keys_that_is_gone_is_written_anew(store: Path) -> None:
    vault = await opened_store.open_with_passphrase(FolderStore(store), PASSPHRASE, fixed_now)
    path = victim(store, "older header")
    slots = headers.decode(path.read_bytes()).slots
    path.unlink()
    assert [
        fault.object
        for fault in (await scrub(Holding(vault, PackIndex()), [], MemoryJournal())).faults
    ] == ["header/1."]
    await opened_store.renew_slots(vault, 1, slots)
    assert "No damage found." in rescue(store, "check").stderr
