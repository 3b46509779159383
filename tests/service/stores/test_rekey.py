"""New keys after a leak: the old passphrase opens nothing that a store still needs, and no backup
is lost.
"""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from fennox.client.api import ProblemError
from fennox.core.format.primitives.hpke import HYBRID
from fennox.wire.backups import NewTake
from fennox.wire.stores import NewPassphrase, NewStore, RekeyWanted, Withdraw
from saltmere.linux import LinuxServer
from tests.engine.rescue.test_rescue import DEBIAN_PYTHON
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, Service, came_to, until

Pair = tuple[str, str]
THIRD = "twelve oars beside the customs house"
NEW = "nine lanterns on the breakwater wall"


def records(folder: Path) -> list[str]:
    return sorted(path.name for path in (folder / "systems").rglob("*.fxr"))


def taken(service: Service, system: str = "web-9", store: str = "attic", name: str = "") -> str:
    with service.client() as client:
        run = service.ended(client.take(NewTake(system=system, store=store, name=name)).id)
    assert run.state == "done", run.reason
    return str(came_to(run, "backup"))


def test_after_a_leak_every_backup_in_every_store_opens_with_the_new_passphrase_alone(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    pier = service.folder / "pier"
    pier.mkdir()
    old, new = service.file("old", PASSPHRASE + "\n"), service.file("new", NEW + "\n")
    with service.client() as client:
        client.add_store(NewStore(name="pier", address=str(pier)))
        first = taken(service)
        server.configure("changed", files=12)
        second = taken(service)
        assert service.ended(client.copy(first, "pier").id).state == "done"
        client.hold(first, "before the storm")
        weak = service.fennox(
            "store", "rekey", "attic", "--new-file", service.file("weak", "boat\n"), "--yes"
        )
        assert weak.returncode == 2
        assert "too weak" in weak.stderr
        same = service.fennox("store", "rekey", "attic", "--new-file", old, "--yes")
        assert "opens the key set already" in same.stderr
        assert service.fennox("store", "rekey", "attic", "--new-file", new).returncode == 5
        assert client.store("attic").generation == 1
    done = service.fennox(
        "store", "rekey", "attic", "--new-file", new, "--label", "second", "--yes"
    )
    assert done.returncode == 0, done.stderr
    assert "2 backups are resealed in attic" in done.stderr
    assert "1 backup is resealed in pier" in done.stderr
    for store in ("attic", "pier"):
        folder = str(service.folder / store)
        refused = service.fennox("rescue", "list", folder, "--passphrase-file", old)
        assert "opens none" in refused.stderr, "the leaked passphrase"
        listed = service.fennox("rescue", "list", folder, "--passphrase-file", new)
        assert listed.stdout.count(first[:12]) == 1
        checked = service.fennox("rescue", "check", folder, "--passphrase-file", new)
        assert checked.returncode == 0, checked.stdout + checked.stderr
    assert len([name for name in records(service.folder / "attic") if ".g2." in name]) == 2
    with service.client() as client:
        shown_store = client.store("attic")
        assert (shown_store.generation, [slot.label for slot in shown_store.passphrases]) == (
            2,
            ["second"],
        )
        run = service.ended(client.verify(second).id)
        assert run.state == "done", run.reason
        assert came_to(service.ended(client.scrub("attic").id), "damaged") == 0
        swept = service.ended(client.sweep("attic", preview=False).id)
        assert (swept.state, came_to(swept, "records"), came_to(swept, "superseded")) == (
            "done",
            0,
            2,
        )
        shown = {backup.id: backup for backup in client.backups()}
        assert shown.keys() == {first, second}
        assert shown[first].held
        third = service.ended(client.take(NewTake(system="web-9", store="attic")).id)
        assert int(came_to(third, "new_bytes") or 0) < 20_000, (
            "a new backup shares the chunks that were sealed anew"
        )
    assert all(".g2." in name for name in records(service.folder / "attic"))
    for secret in (PASSPHRASE, NEW):
        assert secret not in service.log


@pytest.mark.long
def test_where_custody_is_apart_both_passphrases_are_needed(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0], custody="apart")
    backup = taken(service)
    with service.client() as client:
        with pytest.raises(ProblemError) as locked:
            client.rekey("main", RekeyWanted(label="second", new=NEW))
        assert locked.value.slug == "passphrase-needed"
        made = client.rekey("main", RekeyWanted(label="second", new=NEW, passphrase=PASSPHRASE))
        [run] = made.runs
        until(lambda: client.run(run.id).wants_passphrase, "the run asks for the passphrase")
        with pytest.raises(ProblemError):
            client.give_passphrase(run.id, PASSPHRASE)
        client.give_passphrase(run.id, NEW)
        assert service.ended(run.id).state == "done"
        verify = client.verify(backup)
        until(lambda: client.run(verify.id).wants_passphrase, "the run asks for the passphrase")
        client.give_passphrase(verify.id, NEW)
        assert came_to(service.ended(verify.id), "opened") == 1
        again = client.go_on_rekeying("main")
        until(
            lambda: client.run(again.runs[0].id).wants_passphrase, "the run asks for the passphrase"
        )
        client.give_passphrase(again.runs[0].id, NEW)
        assert came_to(service.ended(again.runs[0].id), "backups") == 0


@pytest.mark.long
def test_old_backups_can_be_left_to_expire_and_still_open(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    backup = taken(service)
    with service.client() as client:
        made = client.rekey("main", RekeyWanted(label="second", new=NEW, leave_old=True))
        assert came_to(service.ended(made.runs[0].id), "backups") == 0
        run = service.ended(client.take(NewTake(system="web-9")).id)
        assert came_to(run, "unchanged") is False, "nothing is shared across generations"
        assert service.ended(client.verify(backup).id).state == "done"
        assert service.ended(client.scrub("attic").id).state == "done"
        assert not [
            run for run in client.runs() if run.kind == "rekey" and run.id != made.runs[0].id
        ]
        client.add_passphrase("main", NewPassphrase(label="safe", new=THIRD))
    folder, third = str(service.folder / "attic"), service.file("third", THIRD + "\n")
    both = service.fennox("rescue", "check", folder, "--passphrase-file", third)
    assert both.returncode == 0, "one that is added later opens the old ones too"
    assert "2 backups" in both.stderr, "one that is added later opens the old ones too"
    with service.client() as client:
        client.withdraw_passphrase("main", Withdraw(which="safe"))
    withdrawn = service.fennox("rescue", "list", folder, "--passphrase-file", third)
    assert withdrawn.returncode == 4, "nothing of any generation"
    assert "opens none of this store" in withdrawn.stderr, "nothing of any generation"
    listed = service.fennox(
        "rescue",
        "check",
        str(service.folder / "attic"),
        "--passphrase-file",
        service.file("new", NEW + "\n"),
    )
    assert listed.returncode == 0, listed.stdout + listed.stderr


def read_by_node(folder: Path, passphrase: str) -> dict[str, dict[str, str]]:
    reader = Path(__file__).parents[2] / "core/second_reader.mjs"
    done = subprocess.run(
        ["node", str(reader), "store", str(folder), passphrase], check=True, capture_output=True
    )
    told: dict[str, dict[str, str]] = json.loads(done.stdout)
    return told


@pytest.mark.long
def test_a_key_set_goes_over_to_the_hybrid_suite_and_every_reader_opens_it(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    folder = service.folder / "attic"
    taken(service, name="before")
    before = read_by_node(folder, PASSPHRASE)
    new = service.file("new", NEW + "\n")
    done = service.fennox(
        "store", "rekey", "attic", "--new-file", new, "--yes", "--suite", "hybrid"
    )
    assert done.returncode == 0, done.stderr
    with service.client() as client:
        assert client.store("attic").suite == HYBRID
    server.configure("changed", files=12)
    taken(service, name="after")
    read = read_by_node(folder, NEW)
    assert read.keys() == {"before", "after"}
    assert read["before"] == before["before"]
    assert "cryptography>=48" in (folder / "READ-ME-FIRST.txt").read_text()
    checked = service.fennox("rescue", "check", str(folder), "--passphrase-file", new)
    assert checked.returncode == 0, checked.stderr
    assert "No damage found." in checked.stderr, checked.stderr
    words = [
        DEBIAN_PYTHON,
        "-I",
        str(folder / "rescue.py"),
        "list",
        str(folder),
        "--passphrase-file",
        new,
    ]
    refused = subprocess.run(words, check=False, capture_output=True, text=True, cwd=service.folder)
    assert refused.returncode == 1, refused.stderr
    assert "cryptography 48 or newer" in refused.stderr, refused.stderr


def test_the_suite_is_chosen_with_the_first_store_of_a_key_set(service: Service) -> None:
    phrase = service.file("phrase", PASSPHRASE + "\n")
    for name in ("crypt", "vault", "cellar"):
        (service.folder / name).mkdir()
    hybrid = ("--suite", "hybrid", "--passphrase-file", phrase)
    made = service.fennox(
        "store", "add", "crypt", str(service.folder / "crypt"), "--key-set", "long", *hybrid
    )
    assert made.returncode == 0, made.stderr
    readme = (service.folder / "crypt/READ-ME-FIRST.txt").read_text()
    assert "cryptography>=48" in readme
    further = service.fennox(
        "store", "add", "vault", str(service.folder / "vault"), "--key-set", "long"
    )
    assert further.returncode == 0, further.stderr
    classic = ("--key-set", "long", "--suite", "classic")
    other = service.fennox("store", "add", "cellar", str(service.folder / "cellar"), *classic)
    assert other.returncode == 1, other.stderr
    assert "fennox store rekey" in other.stderr, other.stderr
    assert not list((service.folder / "cellar").iterdir())
    with service.client() as client:
        assert {store.name: store.suite for store in client.stores()} == {
            "crypt": HYBRID,
            "vault": HYBRID,
        }
