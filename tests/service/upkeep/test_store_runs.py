"""Copies, scrub with healing, verify and sweep, through the service and as its users ask for
them.
"""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import select

from fennox.catalogue.models.runs import Routine, Run
from fennox.catalogue.models.stores import KeySet, StoreRow, StoreSpace, Trial
from fennox.core.errors import StoreUnusable
from fennox.core.facts.run_orders import ScrubOrder, TakeOrder, VerifyOrder, dump, of_kind
from fennox.core.format import header as headers
from fennox.engine.stores.scrub import Share
from fennox.service.keys import key_sets
from fennox.service.machines.context import Context
from fennox.service.runs import new_runs
from fennox.service.upkeep import store_duties, store_runs
from fennox.wire.backups import NewTake
from fennox.wire.stores import NewStore
from saltmere.linux import LinuxServer
from tests.engine.two_stores import holding, new_keys
from tests.service.conftest import enrol
from tests.service.contexts import START, SetClock, add_backup, add_routine, add_store, add_system
from tests.service.running import PASSPHRASE, Service, came_to, until

Pair = tuple[str, str]


def two_stores(
    service: Service, server: LinuxServer, private_key: str, custody: str = "kept"
) -> str:
    """Two stores of one key set, and one backup in the first."""
    enrol(service, server, private_key, custody=custody)
    (service.folder / "pier").mkdir()
    with service.client() as client:
        client.add_store(
            NewStore(name="pier", address=str(service.folder / "pier"), passphrase=PASSPHRASE)
        )
        run = service.ended(client.take(NewTake(system="web-9", store="attic")).id)
        return str(came_to(run, "backup"))


def flip(folder: Path) -> Path:
    """Change one bit of the largest pack."""
    pack = max(folder.rglob("*.fxp"), key=lambda path: path.stat().st_size)
    data = bytearray(pack.read_bytes())
    data[len(data) // 2] ^= 1
    pack.write_bytes(data)
    return pack


def scrub_share(service: Service, run: str, share: Share) -> None:
    """Have a scrub that was done read a share alone, as where a store holds too much for one
    night.
    """
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        database.execute(
            "update runs set state = 'queued', started = null, ended = null, result = '{}',"
            ' "order" = %s where id = %s',
            (json.dumps(dump(ScrubOrder(share=(share.number, share.of)))), run),
        )


def test_a_damaged_store_is_healed_from_its_copy_and_says_so(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    backup = two_stores(service, server, key_pair[0])
    copied = service.fennox("backup", "copy", backup[:12], "--to", "pier")
    assert copied.returncode == 0, copied.stderr
    with service.client() as client:
        assert [copy.store for copy in client.backup(backup).copies] == ["attic", "pier"]
    pack = flip(service.folder / "attic")
    verified = service.fennox("backup", "verify", backup[:12], "--store", "attic")
    assert verified.returncode == 1
    assert "cannot be read whole" in verified.stderr
    scrubbed = service.fennox("store", "scrub", "attic")
    assert scrubbed.returncode == 0, scrubbed.stderr
    assert "Faults: 1 found, 1 healed." in scrubbed.stderr
    told = service.fennox("store", "damage", "attic", "--json")
    assert pack.name in told.stdout
    assert "fetched from another copy" in told.stdout
    again = service.fennox("backup", "verify", backup[:12], "--store", "attic")
    assert again.returncode == 0, again.stderr
    with service.client() as client:
        assert [copy.damaged for copy in client.backup(backup).copies] == ["", ""]
        assert client.store("attic").scrubbed is not None
        assert len(client.space("attic")) == 1


def test_without_a_copy_the_backup_is_damaged_and_the_documents_are_named(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    backup = two_stores(service, server, key_pair[0])
    flip(service.folder / "attic")
    scrubbed = service.fennox("store", "scrub", "attic")
    assert "1 BACKUP CANNOT BE READ WHOLE" in scrubbed.stderr
    assert "Documents of it that are lost" in scrubbed.stderr + scrubbed.stdout
    with service.client() as client:
        assert client.backup(backup).damaged
        concerns = [concern.text for concern in client.status().concerns]
        assert any("damaged" in text for text in concerns), concerns


@pytest.mark.long
def test_what_a_verify_finds_damaged_is_known_to_the_store_and_to_scrubs_that_do_not_read_it(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    """`store damage` said that nothing was ever found damaged, and a scrub of other packs that the
    backup is whole.
    """
    backup = two_stores(service, server, key_pair[0])
    with service.client() as client:
        server.write("/etc/motd", "Boats sail at nine.\n")
        later = str(
            came_to(service.ended(client.take(NewTake(system="web-9", store="attic")).id), "backup")
        )
        before = service.ended(client.scrub("attic").id).id
        pack = flip(service.folder / "attic")
        run = service.ended(client.verify(backup).id)
        assert (run.state, came_to(run, "damaged_backups")) == ("failed", 1), run.reason
        [found] = client.damage("attic")
        assert (found.object.endswith(pack.name), found.backups, found.healed) == (
            True,
            [backup],
            None,
        )
        share = Share(1 - int(pack.stem[:8], 16) % 2, 2)
        assert not share.holds(f"packs/2026-11/{pack.name}")
        scrub_share(service, before, share)
        shown = service.ended(before)
        assert came_to(shown, "passed_over") != 0, "it was not read"
        assert came_to(shown, "damaged_backups") == 2
        assert {one.id for one in client.backups() if one.damaged} == {backup, later}
        [found] = client.damage("attic")
        assert (sorted(found.backups), found.healed) == (sorted([backup, later]), None)
        assert backup[:12] in service.fennox("store", "damage", "attic").stdout


def test_a_pack_that_is_gone_is_damage_that_a_store_tells_of(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    """The run said "Nothing is damaged", and in the next breath that a backup cannot be read
    whole.
    """
    backup = two_stores(service, server, key_pair[0])
    pack = flip(service.folder / "attic")
    whole = pack.read_bytes()
    pack.unlink()
    scrubbed = service.fennox("store", "scrub", "attic")
    assert "Faults: 1 found, 0 healed. 1 BACKUP CANNOT BE READ WHOLE" in scrubbed.stderr
    with service.client() as client:
        [found] = client.damage("attic")
        assert (found.object, found.backups, found.healed) == (
            "packs that are gone",
            [backup],
            None,
        )
        data = bytearray(whole)
        data[len(data) // 2] ^= 1
        pack.write_bytes(data)  # somebody found it elsewhere
        assert service.ended(client.verify(backup).id).state == "done"
        [found] = client.damage("attic")
        assert (found.backups, found.how) == ([], "it was read whole again")
        assert not client.backup(backup).damaged


def test_a_sweep_shows_before_it_does(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    two_stores(service, server, key_pair[0])
    preview = service.fennox("store", "sweep", "attic", "--preview")
    assert preview.returncode == 0, preview.stderr
    assert "removes 0 backups" in preview.stderr
    assert service.fennox("store", "sweep", "attic").returncode == 5
    done = service.fennox("store", "sweep", "attic", "--yes")
    assert done.returncode == 0, done.stderr
    assert "0 packs deleted" in done.stderr
    with service.client() as client:
        assert client.store("attic").swept is not None


@pytest.mark.long
def test_in_custody_apart_a_copy_travels_sealed_and_a_verify_asks_for_the_passphrase(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    backup = two_stores(service, server, key_pair[0], custody="apart")
    assert service.fennox("backup", "copy", backup, "--to", "pier").returncode == 0
    flip(service.folder / "pier")
    assert "Faults: 1 found, 1 healed." in service.fennox("store", "scrub", "pier").stderr
    asked = service.fennox("backup", "verify", backup, "--store", "pier")
    assert asked.returncode == 5
    with service.client() as client:
        [waiting] = [run for run in client.runs(kind="verify") if run.wants_passphrase]
        client.stop_run(waiting.id)
        until(lambda: client.run(waiting.id).state == "stopped", "the verify has stopped")
    phrase = service.file("pass", PASSPHRASE + "\n")
    opened = service.fennox(
        "backup", "verify", backup, "--store", "pier", "--passphrase-file", phrase
    )
    assert opened.returncode == 0, opened.stderr
    assert "1 opened" in opened.stderr


def test_a_scrub_goes_on_while_another_store_is_away_and_strays_of_ours_are_brought_in(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    backup = two_stores(service, server, key_pair[0])
    (service.folder / "pier").rename(service.folder / "away")
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        database.execute("delete from copies")
        database.execute("delete from backups")
    with service.client() as client:
        assert client.backups() == []
        run = service.ended(client.scrub("attic").id)
        assert (run.state, came_to(run, "unknown_backups")) == ("done", 1), run.reason
        assert any("pier cannot help to heal" in line.text for line in client.run_log(run.id))
        until(
            lambda: [held.id for held in client.backups()] == [backup],
            "what a run of ours had taken is brought in",
        )


def test_a_hold_counts_at_once_and_a_store_that_was_away_is_told_later(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    backup = two_stores(service, server, key_pair[0])
    assert service.fennox("backup", "copy", backup, "--to", "pier").returncode == 0
    (service.folder / "pier").rename(service.folder / "away")
    with service.client() as client:
        assert client.hold(backup, "before the storm").held
        places = {place.store: place.untold for place in client.backup(backup).copies}
        assert places == {"attic": [], "pier": ["hold"]}
        assert "not written there yet: hold" in service.fennox("backup", "show", backup).stdout
        client.release(backup, "it is over")
        assert {place.store: place.untold for place in client.backup(backup).copies}["pier"] == [
            "hold",
            "release",
        ]
        client.hold(backup, "another storm")
        (service.folder / "away").rename(service.folder / "pier")
        service.kill()  # the first look of a service that starts is at what waits
        service.start()
        until(lambda: client.backup(backup).copies[1].untold == [], "the store was told", limit=180)
    assert len(list((service.folder / "pier").rglob("*.fxn"))) == 3
    assert len(list((service.folder / "attic").rglob("*.fxn"))) == 3


@pytest.mark.parametrize(
    "verb", [("backup", "copy", "nothing", "--to", "attic"), ("store", "scrub", "nowhere")]
)
def test_what_is_not_there_is_not_found(
    service: Service, server: LinuxServer, key_pair: Pair, verb: tuple[str, ...]
) -> None:
    enrol(service, server, key_pair[0])
    assert service.fennox(*verb).returncode == 3


async def test_a_routine_sends_each_backup_to_its_further_stores(context: Context) -> None:
    attic, pier, cave = [await add_store(context, name) for name in ("attic", "pier", "cave")]
    routine = await add_routine(context, attic, copy_to=[pier, cave, attic])
    system = await add_system(context, "web-9")
    backup = await add_backup(context, system, attic, START, 1)
    async with context.session() as session:
        run = await new_runs.enqueue(
            session,
            TakeOrder(),
            new_runs.About(system_id=system, store_id=attic, routine_id=routine),
            by="routine nightly",
            now=START,
        )
        await store_runs.enqueue_copies(
            context, session, run, await session.get_one(Routine, routine), backup
        )
    async with context.session() as session:
        copies = (await session.execute(select(Run).where(Run.kind == "copy"))).scalars().all()
        assert sorted((run.store_id, run.backup_id) for run in copies) == sorted(
            [(pier, backup), (cave, backup)]
        )


async def test_stores_are_scrubbed_and_swept_every_week_and_every_backup_gets_its_turn(
    context: Context, clock: SetClock
) -> None:
    store = await add_store(context)
    async with context.session() as session:
        (await session.get_one(KeySet, ("k" * 32, 1))).sealed_opening_key = b"x"
    system = await add_system(context, "web-9")
    for number in range(1, 10):
        await add_backup(context, system, store, START, number)
    await store_duties.tend(context)
    assert await kinds(context) == []
    clock.at = START + timedelta(days=7)
    await store_duties.tend(context)
    await store_duties.tend(context)
    assert await kinds(context) == ["scrub", "sweep"]
    clock.at = START + timedelta(days=24)
    await store_duties.tend(context)
    async with context.session() as session:
        [verify] = (await session.execute(select(Run).where(Run.kind == "verify"))).scalars()
        assert (of_kind(verify.order, VerifyOrder).most or 0) * 30 >= 9 * 7


async def test_a_store_that_is_larger_than_its_budget_is_scrubbed_a_share_a_night(
    context: Context, clock: SetClock
) -> None:
    store = await add_store(context)
    async with context.session() as session:
        row = await session.get_one(StoreRow, store)
        row.scrub_budget, row.scrub_share = 10_000, 9
        session.add(StoreSpace(store_id=store, at=START, objects=9, used=45_000, free=None))
    clock.at = START + timedelta(days=1)
    await store_duties.tend(context)
    assert await kinds(context) == [], "a fifth of a week has not passed"
    clock.at = START + timedelta(days=1.5)
    await store_duties.tend(context)
    async with context.session() as session:
        [run] = (await session.execute(select(Run))).scalars()
        assert run.order == ScrubOrder(share=(4, 5))


async def test_a_passphrase_that_nobody_tried_for_long_is_a_concern(
    context: Context, clock: SetClock
) -> None:
    await add_store(context)
    clock.at = START + timedelta(days=91)
    async with context.session() as session:
        [concern] = await key_sets.concerns(context, session)
        assert "for 91 days" in concern.text
        session.add(Trial(key_set="k" * 32, slot="s", at=clock.at, by="harbour-admin"))
        await session.flush()
        assert await key_sets.concerns(context, session) == []


async def kinds(context: Context) -> list[str]:
    async with context.session() as session:
        return sorted((await session.execute(select(Run.kind))).scalars())


def test_when_the_first_store_is_away_the_copy_is_read(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    backup = two_stores(service, server, key_pair[0])
    assert service.fennox("backup", "copy", backup, "--to", "pier").returncode == 0
    (service.folder / "attic").rename(service.folder / "away")
    exported = service.fennox(
        "backup", "export", backup, "--to", str(service.folder / "out.tar.gz")
    )
    assert exported.returncode == 0, exported.stderr
    with service.client() as client:
        assert client.documents(backup)


async def test_of_a_nights_takes_not_each_looks_at_the_headers_again(
    context: Context, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    keys, folder = new_keys(), tmp_path / "attic"
    here = await holding(folder, keys, context.now)
    place = f"key_sets|{keys.secret.key_set}|1"
    pinned = headers.encode(here.vault.header)
    async with context.session() as session:
        session.add(
            KeySet(
                id=keys.secret.key_set,
                generation=1,
                name="main",
                custody="kept",
                suite=keys.opening.suite,
                created=START,
                sealed_write_secret=context.keyfile.seal(keys.secret.raw, f"{place}|write secret"),
                sealed_opening_key=context.keyfile.seal(keys.opening.raw, f"{place}|opening key"),
            )
        )
        row = StoreRow(
            id=here.vault.id,
            name="attic",
            address=str(folder),
            key_set=keys.secret.key_set,
            generation=1,
            header=pinned.decode(),
            header_digest="",
            created=START,
        )
        session.add(row)
        await session.flush()
        door = await context.stores.door(session, row)
    await context.stores.vault(door, lately=True)
    theirs = headers.new_header(
        new_keys(),
        store=here.vault.id,
        written="20270101T000000Z",
        sweeper="00" * 16,
        slots=here.vault.header.slots,
        revision=99,
    )
    await here.vault.store.put(headers.name(theirs), headers.encode(theirs))
    assert (await context.stores.vault(door, lately=True)).header == here.vault.header
    with pytest.raises(StoreUnusable, match="not the one this service wrote"):
        await context.stores.vault(door)
    monkeypatch.setattr("fennox.service.machines.store_doors._LATELY", 0)
    with pytest.raises(StoreUnusable, match="not the one this service wrote"):
        await context.stores.vault(door, lately=True)
