"""Passphrases, custody, handing over, and adoption by a service that knows nothing."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import pytest

from fennox.client.api import ProblemError
from fennox.core.format.slots import FLOOR_WORK
from fennox.wire.backups import NewTake
from fennox.wire.stores import (
    AdoptStore,
    CustodyWanted,
    LoginChange,
    NewPassphrase,
    NewStore,
    Unlock,
    Withdraw,
)
from saltmere.linux import LinuxServer
from tests.backups import store_backup
from tests.conftest import fixed_now
from tests.engine.two_stores import holding, new_keys
from tests.places import free_port, loopback
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, Service, came_to, until

Pair = tuple[str, str]
SECOND = "nine lanterns on the breakwater wall"


def headers(folder: Path) -> set[str]:
    return {path.name for path in (folder / "header").iterdir()}


def test_a_second_passphrase_is_added_tried_and_withdrawn_in_every_store(service: Service) -> None:
    for name in ("attic", "pier"):
        (service.folder / name).mkdir()
        with service.client() as client:
            client.add_store(
                NewStore(name=name, address=str(service.folder / name), passphrase=PASSPHRASE)
            )
    first = headers(service.folder / "pier")
    weak = service.fennox("passphrase", "add", "safe", "--new-file", service.file("weak", "boat\n"))
    assert weak.returncode == 2
    assert "too weak" in weak.stderr
    same = service.fennox(
        "passphrase", "add", "safe", "--new-file", service.file("same", PASSPHRASE + "\n")
    )
    assert "opens the key set already" in same.stderr
    added = service.fennox(
        "passphrase", "add", "safe", "--new-file", service.file("new", SECOND + "\n")
    )
    assert added.returncode == 0, added.stderr
    assert len(headers(service.folder / "pier") - first) == 1
    for store in ("attic", "pier"):
        rescued = service.fennox(
            "rescue", "list", str(service.folder / store), "--passphrase-file", "new"
        )
        assert rescued.returncode == 0, rescued.stderr
    tried = service.fennox("passphrase", "try", "--passphrase-file", "new")
    assert "It is the passphrase safe, and opens attic, pier." in tried.stderr
    wrong = service.fennox(
        "passphrase", "try", "--passphrase-file", service.file("other", "no such words here\n")
    )
    assert wrong.returncode != 0
    assert service.fennox("passphrase", "withdraw", "first").returncode == 5
    assert service.fennox("passphrase", "withdraw", "first", "--yes").returncode == 0
    old = service.fennox(
        "passphrase", "try", "--passphrase-file", service.file("old", PASSPHRASE + "\n")
    )
    assert "opens none" in old.stderr
    for store in ("attic", "pier"):
        again = service.fennox(
            "rescue", "list", str(service.folder / store), "--passphrase-file", "old"
        )
        assert again.returncode == 4, "of older headers neither"
        assert "opens none of this store" in again.stderr, "of older headers neither"
        assert len(headers(service.folder / store)) == 1
    last = service.fennox("passphrase", "withdraw", "safe", "--yes")
    assert "only passphrase" in last.stderr
    listed = service.fennox("passphrase", "list")
    assert "safe" in listed.stdout
    assert "first" not in listed.stdout
    assert SECOND not in service.log


def costs_in(folder: Path) -> list[dict[str, int]]:
    """What the slots of the store's headers cost, as they lie there."""
    read = [json.loads(path.read_bytes()) for path in (folder / "header").iterdir()]
    return [slot["costs"] for header in read for slot in header["slots"]]


@pytest.mark.long
def test_a_passphrase_that_is_cheap_to_guess_is_told_and_locked_anew_when_it_is_typed(
    service: Service,
) -> None:
    folder = service.folder / "attic"
    folder.mkdir()
    with service.client() as client:
        client.add_store(NewStore(name="attic", address=str(folder), passphrase=PASSPHRASE))
    assert costs_in(folder) == [{"memory": 64, "passes": 1, "lanes": 1}]
    service.stop()
    service.further["FENNOX_WEAK_SLOTS"] = "0"
    service.start()
    with service.client() as client:
        until(
            lambda: any(
                "guesses at the passphrase first" in item.text for item in client.concerns()
            ),
            "it is told",
        )
    tried = service.fennox(
        "passphrase", "try", "--passphrase-file", service.file("old", PASSPHRASE + "\n")
    )
    assert tried.returncode == 0, tried.stderr
    [now] = costs_in(folder)
    assert now["memory"] * now["passes"] >= FLOOR_WORK, "and the header with the cheap slot is gone"
    with service.client() as client:
        until(
            lambda: not any("guesses at" in item.text for item in client.concerns()), "it has ended"
        )
        [shown] = [one for keys in client.key_sets() for one in keys.passphrases]
        assert (shown.memory_kib, shown.passes) == (now["memory"], now["passes"])
    listed = service.fennox("rescue", "list", str(folder), "--passphrase-file", "old")
    assert listed.returncode == 0, listed.stderr


def test_a_store_that_was_away_gets_the_new_header_when_it_is_back(service: Service) -> None:
    folder, away = service.folder / "attic", service.folder / "away"
    folder.mkdir()
    with service.client() as client:
        client.add_store(NewStore(name="attic", address=str(folder), passphrase=PASSPHRASE))
        folder.rename(away)
        told = client.add_passphrase("main", NewPassphrase(label="safe", new=SECOND))
        assert "when it can be reached" in told.away[0]
        before = headers(away)
        away.rename(folder)
        assert client.test_store("attic").passed
        assert len(headers(folder) - before) == 1


def test_custody_changes_in_both_directions_and_only_with_the_passphrase(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        backup = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
        with pytest.raises(ProblemError, match="needs the passphrase"):
            client.change_custody("main", CustodyWanted(custody="apart"))
        with pytest.raises(ProblemError, match="opens none"):
            client.change_custody("main", CustodyWanted(custody="apart", passphrase=SECOND))
        apart = client.change_custody("main", CustodyWanted(custody="apart", passphrase=PASSPHRASE))
        assert apart.custody == "apart"
        with pytest.raises(ProblemError) as locked:
            client.documents(backup)
        assert locked.value.slug == "passphrase-needed"
        with pytest.raises(ProblemError):
            client.add_passphrase("main", NewPassphrase(label="safe", new=SECOND))
        assert (
            client.change_custody(
                "main", CustodyWanted(custody="kept", passphrase=PASSPHRASE)
            ).custody
            == "kept"
        )
        assert client.documents(backup)


@pytest.fixture
def stranger(tmp_path: Path, second_database: str) -> Iterator[Service]:
    """A second service that knows nothing of the first."""
    host = loopback()
    (tmp_path / "stranger").mkdir()
    made = Service(tmp_path / "stranger", second_database, host, free_port(host))
    try:
        made.start()
        made.set_up()
        yield made
    finally:
        made.stop()


def test_an_empty_service_adopts_a_store_with_systems_backups_and_holds(
    service: Service, stranger: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        first = service.ended(
            client.take(NewTake(system="web-9", name="first", note="before it all")).id
        )
        server.configure("rates", files=3)
        service.ended(client.take(NewTake(system="web-9")).id)
        client.hold(str(came_to(first, "backup")), "the audit")
        ours = client.system("web-9")
        known = {
            backup.id: (backup.name, backup.held, backup.census) for backup in client.backups()
        }
    service.stop()
    folder = service.folder / "attic"
    wrong = stranger.fennox(
        "store",
        "adopt",
        str(folder),
        "--name",
        "attic",
        "--passphrase-file",
        stranger.file("wrong", SECOND + "\n"),
    )
    assert wrong.returncode != 0
    adopted = stranger.fennox(
        "store",
        "adopt",
        str(folder),
        "--name",
        "attic",
        "--passphrase-file",
        stranger.file("pass", PASSPHRASE + "\n"),
    )
    assert adopted.returncode == 0, adopted.stderr
    assert "2 backups of 1 systems" in adopted.stderr
    with stranger.client() as client:
        theirs = client.system("web-9")
        assert (theirs.id, theirs.machine, theirs.address) == (ours.id, ours.machine, ours.address)
        assert {
            backup.id: (backup.name, backup.held, backup.census) for backup in client.backups()
        } == known
        refused = stranger.ended(client.sweep("attic", preview=False).id)
        assert "Another service sweeps" in refused.reason
        client.hand_over("attic", Unlock())
        assert stranger.ended(client.sweep("attic", preview=False).id).state == "done"
        assert came_to(stranger.ended(client.scrub("attic").id), "damaged") == 0


@pytest.mark.long
def test_two_services_on_one_store_do_no_harm_and_stop_when_one_changes_the_keys(
    service: Service, stranger: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    folder = service.folder / "attic"
    with service.client() as client, stranger.client() as other:
        first = service.ended(client.take(NewTake(system="web-9")).id)
        adopt = AdoptStore(name="attic", address=str(folder), passphrase=PASSPHRASE)
        assert came_to(stranger.ended(other.adopt_store(adopt).id), "backups") == 1
        other.change_login("adopted-root", LoginChange(private_key=key_pair[0]))
        both = [client.take(NewTake(system="web-9")).id, other.take(NewTake(system="web-9")).id]
        assert [service.ended(both[0]).state, stranger.ended(both[1]).state] == ["done", "done"]
        assert service.ended(client.sweep("attic", preview=False).id).state == "done"
        assert (
            "Another service sweeps"
            in stranger.ended(other.sweep("attic", preview=False).id).reason
        )
        scrubbed = service.ended(client.scrub("attic").id)
        assert (scrubbed.state, came_to(scrubbed, "unknown_backups")) == ("done", 1), (
            scrubbed.reason + service.log[-3000:]
        )
        client.add_passphrase("main", NewPassphrase(label="safe", new=SECOND))
        stopped = stranger.ended(other.take(NewTake(system="web-9")).id)
        assert stopped.state == "failed"
        assert "not the one this service wrote" in stopped.reason
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"
        assert service.ended(client.verify(str(came_to(first, "backup"))).id).state == "done"
    checked = service.fennox(
        "rescue", "check", str(folder), "--passphrase-file", service.file("new", SECOND + "\n")
    )
    assert checked.returncode == 0, checked.stderr
    assert "4 backups" in checked.stderr, checked.stderr


@pytest.mark.long
async def test_an_adoption_that_is_killed_again_and_again_brings_every_backup_in_once(
    service: Service, tmp_path: Path
) -> None:
    here = await holding(tmp_path / "old", new_keys(), fixed_now)
    backups = {
        (await store_backup(here.vault, here.index, {"/a": os.urandom(3000)}, sequence=number + 1))[
            0
        ]
        for number in range(60)
    }
    service.kill()
    service.lease = 3  # a session idle for longer is ended, and a busy machine pauses
    service.start()
    with service.client() as client:
        adopt = AdoptStore(name="old", address=str(tmp_path / "old"), passphrase=PASSPHRASE)
        run = client.adopt_store(adopt)

        def are_in(count: int) -> bool:
            return client.run(run.id).documents >= count

        for count in (1, 15):
            until(partial(are_in, count), f"{count} backups are in")
            service.kill()
            service.start()
        ended = service.ended(run.id)
        assert (ended.state, ended.attempt) == ("done", 3), ended.reason
        assert {backup.id for backup in client.backups()} == backups
        [system] = client.systems()
        assert system.backups == len(backups)


@pytest.mark.long
def test_a_forgotten_store_is_adopted_again_and_so_are_backups_the_catalogue_lacks(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    folder = service.folder / "attic"
    with service.client() as client:
        backup = came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup")
        client.remove_store("attic")
        assert client.backups() == []
        with pytest.raises(ProblemError, match="opens none"):
            client.adopt_store(AdoptStore(name="attic", address=str(folder), passphrase=SECOND))
        adopt = AdoptStore(name="attic", address=str(folder), passphrase=PASSPHRASE)
        assert came_to(service.ended(client.adopt_store(adopt).id), "backups") == 1
        assert [held.id for held in client.backups()] == [backup]
        assert client.system("web-9").login == "quay-root"
        again = service.ended(client.adopt_backups("attic").id)
        assert (again.state, came_to(again, "backups")) == ("done", 0)
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"


def test_withdrawing_what_is_not_there_changes_nothing(service: Service) -> None:
    (service.folder / "attic").mkdir()
    with service.client() as client:
        client.add_store(
            NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        )
        held = headers(service.folder / "attic")
        with pytest.raises(ProblemError, match="no passphrase nobody"):
            client.withdraw_passphrase("main", Withdraw(which="nobody"))
        assert headers(service.folder / "attic") == held
