"""The simulated manager of virtualization hosts keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import time
import urllib.error
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from saltmere.orlop.machine import OrlopMachine
from tests.demo.sftp_place import SftpPlace
from tests.places import free_port, loopback

Deploy = Callable[[], OrlopMachine]
PHRASE = "made-up phrase"


@pytest.fixture
def deploy(tmp_path: Path) -> Iterator[Deploy]:
    """Deploy a new one."""
    made: list[OrlopMachine] = []

    def put_up() -> OrlopMachine:
        host = loopback()
        machine = OrlopMachine(tmp_path / f"orlop-{len(made)}", host, free_port(host))
        made.append(machine)
        machine.start()
        return machine

    yield put_up
    for machine in made:
        machine.stop()


def until(machine: OrlopMachine, path: str, *states: str) -> Any:
    ends = time.monotonic() + 30
    while True:
        told: Any = machine.request("GET", path)
        if told["state"] in states:
            return told
        assert time.monotonic() < ends, told
        time.sleep(0.05)


def set_up(machine: OrlopMachine, sftp: SftpPlace) -> None:
    machine.configure("keeper", "made-up-keeper", hosts={})
    machine.request("PUT", "/backups/place", sftp.told)
    schedule = {"hours": 24, "keep": 2, "history": True, "passphrase": PHRASE}
    machine.request("PUT", "/backups/schedule", schedule)


def backed_up(machine: OrlopMachine, passphrase: str = PHRASE) -> dict[str, str]:
    run: Any = machine.request("POST", "/backups", {"history": True, "passphrase": passphrase})
    told = until(machine, f"/backups/{run['run']}", "done", "failed")
    return dict(told)


def loaded(machine: OrlopMachine, sftp: SftpPlace, passphrase: str = PHRASE) -> Any:
    machine.request("POST", "/setup/load", {**sftp.told, "passphrase": passphrase})
    return until(machine, "/setup/load", "loaded", "failed")


def refused(machine: OrlopMachine, method: str, path: str, body: object = None) -> str:
    with pytest.raises(urllib.error.HTTPError) as error:
        machine.request(method, path, body)
    return f"{error.value.code}: {error.value.read().decode()}"


def test_a_new_deployment_is_fresh_and_manages_nothing(deploy: Deploy) -> None:
    first, second = deploy(), deploy()
    told: Any = first.request("GET", "/about")
    assert told["state"] == "fresh"
    other: Any = second.request("GET", "/about")
    assert other["id"] != told["id"]
    assert first.fingerprint != second.fingerprint
    assert "it manages nothing" in refused(first, "PUT", "/hosts/quay", {"address": "10.1.1.1:1"})


def test_what_was_set_up_is_there_after_a_restart(deploy: Deploy) -> None:
    machine = deploy()
    machine.configure("keeper", "made-up-keeper", hosts={"keelson-1": "127.0.0.1:1"})
    held = machine.request("GET", "/inventory")
    machine.stop()
    machine.start()
    assert machine.request("GET", "/inventory") == held
    assert machine.request("GET", "/health") == {"health": "lost: keelson-1"}
    assert "made-up-m.quay" not in str(held)


def test_it_pushes_what_it_lists_and_keeps_so_many(deploy: Deploy, sftp: SftpPlace) -> None:
    machine = deploy()
    set_up(machine, sftp)
    for _ in range(3):
        assert backed_up(machine)["state"] == "done"
    names = sorted(sftp.files())
    assert len([name for name in names if name.endswith(".info")]) == 2, "it keeps two"
    assert len(names) == 6
    assert b"m.quay" not in b"".join(sftp.files().values()), "they are encrypted"
    kept: Any = machine.request("GET", "/backups")
    assert len(kept) == 3


def test_a_place_with_another_key_gets_nothing(deploy: Deploy, sftp: SftpPlace) -> None:
    machine = deploy()
    set_up(machine, sftp)
    machine.request("PUT", "/backups/place", {**sftp.told, "key": "SHA256:another"})
    assert "refuses" in backed_up(machine)["why"]
    assert sftp.files() == {}


def test_a_new_deployment_becomes_what_was_backed_up(deploy: Deploy, sftp: SftpPlace) -> None:
    old, new = deploy(), deploy()
    set_up(old, sftp)
    backed_up(old)
    held, about = old.request("GET", "/inventory"), old.request("GET", "/about")
    assert loaded(new, sftp)["state"] == "loaded"
    assert "switch it off first" in refused(new, "POST", "/setup/finish")
    old.stop()
    new.request("POST", "/setup/finish")
    new.host, new.port = old.host, old.port
    new.account, new.password = "keeper", "made-up-keeper"
    new.wait()
    assert new.request("GET", "/inventory") == held
    after: Any = new.request("GET", "/about")
    assert (after["state"], after["name"]) == ("running", "orlop-1")
    assert after["id"] != about["id"]  # type: ignore[index]
    assert new.request("GET", "/backups") == []
    assert "goes into a new deployment" in refused(new, "POST", "/setup/load", sftp.told)


def test_network_values_can_be_changed_on_the_way_in(deploy: Deploy, sftp: SftpPlace) -> None:
    old, new = deploy(), deploy()
    set_up(old, sftp)
    backed_up(old)
    own = f'{{"host": "{new.host}", "port": {new.port}, "name": "practice", "account": ""}}'
    (sftp.folder / "network.json").write_text(own)
    assert loaded(new, sftp)["state"] == "loaded"
    new.request("POST", "/setup/finish")
    new.account, new.password = "keeper", "made-up-keeper"
    time.sleep(0.5)
    new.wait()
    told: Any = new.request("GET", "/about")
    assert (told["state"], told["name"]) == ("running", "practice")
    shown: Any = new.request("GET", "/inventory")
    assert shown["schedule"] == {}, "it pushes nowhere"
    assert "no place" in refused(new, "POST", "/backups", {})


@pytest.mark.parametrize(
    ("spoil", "why"),
    [
        ("passphrase", "the passphrase is not that of this backup"),
        ("damage", "is damaged"),
        ("lose", "is missing"),
        ("two", "2 backups lie there"),
        ("version", "this deployment has version 7.2"),
    ],
)
def test_what_cannot_be_loaded_leaves_it_fresh(
    deploy: Deploy, sftp: SftpPlace, spoil: str, why: str
) -> None:
    old, new = deploy(), deploy()
    set_up(old, sftp)
    for _ in range(2 if spoil == "two" else 1):
        backed_up(old)
    content = next(path for path in sftp.folder.iterdir() if "-content" in path.name)
    info = next(path for path in sftp.folder.iterdir() if path.name.endswith(".info"))
    if spoil == "damage":
        content.write_bytes(content.read_bytes()[:-1] + b"?")
    elif spoil == "lose":
        content.unlink()
    elif spoil == "version":
        info.write_text(info.read_text().replace("version 7.2", "version 7.1"))
    told = loaded(new, sftp, "another" if spoil == "passphrase" else PHRASE)
    assert told["state"] == "failed"
    assert why in told["why"]
    about: Any = new.request("GET", "/about")
    assert about["state"] == "fresh"


def test_nothing_stops_it_once_it_loads(deploy: Deploy, sftp: SftpPlace) -> None:
    old, new = deploy(), deploy()
    set_up(old, sftp)
    backed_up(old)
    new.request("POST", "/setup/load", {**sftp.told, "passphrase": PHRASE})
    until(new, "/setup/load", "loading")
    assert "nothing stops it now" in refused(new, "DELETE", "/setup/load")
    new.stop()  # somebody pulls the plug
    new.start()
    about: Any = new.request("GET", "/about")
    assert about["state"] == "broken"
    assert "this is broken" in refused(new, "POST", "/setup/load", sftp.told)
