"""The simulated virtualization host keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import asyncio
import json
import time
import urllib.error
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import asyncssh
import pytest

from saltmere.keelson.guests import free
from saltmere.keelson.machine import KeelsonHost
from saltmere.orlop.machine import OrlopMachine
from tests.places import free_port, loopback
from tests.service.running import until

Installs = Callable[..., KeelsonHost]


@pytest.fixture
def installs(tmp_path: Path) -> Iterator[Installs]:
    """Install a new host."""
    made: list[KeelsonHost] = []

    def put_up(partition: int = 32) -> KeelsonHost:
        host = loopback()
        machine = KeelsonHost(
            tmp_path / f"keelson-{len(made)}",
            host,
            free_port(host),
            shell_port=free_port(host),
            partition=partition,
        )
        made.append(machine)
        machine.start()
        return machine

    yield put_up
    for machine in made:
        machine.stop()


def about(host: KeelsonHost) -> Any:
    return host.request("GET", "/host")


def refused(host: KeelsonHost, method: str, path: str, body: object = None) -> str:
    with pytest.raises(urllib.error.HTTPError) as error:
        host.request(method, path, body)
    return f"{error.value.code}: {error.value.read().decode()}"


def bundle(host: KeelsonHost) -> bytes:
    made: Any = host.request("POST", "/bundles")
    ends = time.monotonic() + 20
    while True:
        told: Any = host.request("GET", f"/bundles/{made['bundle']}")
        if told["state"] == "ready":
            break
        assert time.monotonic() < ends
    path = f"/bundles/{made['bundle']}/file"
    return host.fetch(path)


async def shell(host: KeelsonHost, command: str, given: bytes = b"") -> tuple[int, str]:
    connection = await asyncssh.connect(
        host.host,
        host.shell_port,
        username=host.account,
        password=host.password,
        known_hosts=None,
        client_keys=None,
        config=None,
        agent_path=None,
    )
    async with connection:
        done = await connection.run(command, input=given, encoding=None)
    said = (done.stdout or b"") + (done.stderr or b"")  # type: ignore[operator]
    assert isinstance(said, bytes)
    return int(done.exit_status or 0), said.decode()


def at_shell(host: KeelsonHost, command: str, given: bytes = b"") -> tuple[int, str]:
    return asyncio.run(shell(host, command, given))


def configured(host: KeelsonHost) -> KeelsonHost:
    host.configure("keelson-1", "keeper", "made-up-keeper", licence="KEEL-FULL-1")
    return host


def ready_to_load(host: KeelsonHost, data: bytes, name: str = "settings.kbl") -> None:
    host.request("PUT", "/shell", {"on": True})
    host.request("PUT", "/quiet", {"on": True})
    assert at_shell(host, f"keelson put {name}", data)[0] == 0


def back(host: KeelsonHost, there: KeelsonHost | None = None) -> None:
    """Wait until it has restarted, with what was loaded."""
    host.account, host.password = "keeper", "made-up-keeper"
    if there is not None:
        host.host, host.port = there.host, there.port
    ends = time.monotonic() + 30
    while True:
        try:
            if about(host)["quiet"]:
                return
        except OSError:
            pass
        assert time.monotonic() < ends
        time.sleep(0.05)


def test_a_new_host_has_a_trial_licence_and_no_shell(installs: Installs) -> None:
    first, second = installs(), installs(partition=64)
    told = about(first)
    assert (told["licence"]["sort"], told["shell"], told["quiet"]) == ("trial", False, False)
    assert (told["partition"], about(second)["partition"]) == (32, 64)
    assert told["id"] != about(second)["id"]
    with pytest.raises(OSError):
        at_shell(first, "keelson ls")
    first.request("PUT", "/shell", {"on": True})
    assert at_shell(first, "keelson ls") == (0, "")
    first.request("PUT", "/shell", {"on": False})
    with pytest.raises(OSError):
        at_shell(first, "keelson ls")


def test_the_quiet_state_needs_machines_that_are_off(installs: Installs) -> None:
    host = configured(installs())
    assert "machines run: berths, tickets, timetable" in refused(
        host, "PUT", "/quiet", {"on": True}
    )
    for name in ("berths", "tickets", "timetable"):
        host.request("PUT", f"/machines/{name}/power", {"on": False})
    host.request("PUT", "/quiet", {"on": True})
    assert "is quiet" in refused(host, "PUT", "/machines/berths/power", {"on": True})


def test_a_bundle_brings_everything_but_id_and_partition(installs: Installs) -> None:
    old, new = configured(installs()), installs(partition=64)
    data, before, known = bundle(old), old.settings(), about(new)
    old.stop()
    ready_to_load(new, data)
    assert at_shell(new, "keelson load")[0] == 0
    back(new, old)
    after = new.settings()
    machines: Any = after["machines"]
    assert [one["on"] for one in machines] == [False, False, False]
    for one in machines:
        one["on"] = True
    assert after == before
    told = about(new)
    assert (told["id"], told["partition"]) == (known["id"], 64)
    assert told["licence"] == {"key": "KEEL-FULL-1", "sort": "full"}
    assert new.request("GET", "/health") == {"health": "ok"}, "the keys of sealed stores came along"
    assert not told["shell"]


def test_own_values_go_before_the_bundles(installs: Installs) -> None:
    old, new = configured(installs()), installs()
    ready_to_load(new, bundle(old))
    own = {"host": new.host, "port": new.port, "name": "keelson-7", "licence": "KEEL-FULL-7"}
    at_shell(new, "keelson put network.kbl", json.dumps(own).encode())
    at_shell(new, "keelson load")
    back(new)
    assert about(new)["name"] == "keelson-7"
    assert about(new)["licence"]["key"] == "KEEL-FULL-7"


@pytest.mark.parametrize(
    ("name", "spoil", "why"),
    [
        ("settings-keelson-1.kbl", b"", "there is no settings.kbl"),
        ("settings.kbl", b"rubbish", "is no bundle"),
        ("settings.kbl", b"half", "is no bundle"),
        ("settings.kbl", b"", "the host is not quiet"),
    ],
)
def test_what_is_not_loaded_changes_nothing(
    installs: Installs, name: str, spoil: bytes, why: str
) -> None:
    old, new = configured(installs()), installs()
    data = bundle(old)
    data = data[: len(data) // 2] if spoil == b"half" else spoil or data
    ready_to_load(new, data, name)
    if "quiet" in why:
        new.request("PUT", "/quiet", {"on": False})
    before = new.settings()
    code, said = at_shell(new, "keelson load")
    assert (code, why in said) == (2, True), said
    assert new.settings() == before


def test_a_store_without_its_key_stays_closed(installs: Installs) -> None:
    host = configured(installs())
    (host.folder / "keys/vault").unlink()
    assert host.request("GET", "/health") == {"health": "closed: vault"}


def test_a_machine_of_an_image_wakes_up_where_it_was_told(installs: Installs) -> None:
    host = installs()
    host.request("PUT", "/stores/fast", {"device": "disk-fast", "sealed": False})
    assert host.request("GET", "/images") == ["orlop-7"]
    at = loopback()
    made = {"store": "fast", "image": "orlop-7", "memory": 4096, "address": f"{at}:{free_port(at)}"}
    for wrong in ({"image": "orlop-8"}, {"store": "slow"}, {"address": host.address}):
        assert refused(host, "PUT", "/machines/manager", {**made, **wrong}).startswith("409")
    host.request("PUT", "/machines/manager", made)
    assert refused(host, "PUT", "/machines/manager", made).startswith("409")
    assert "address" not in machine(host, "manager"), "it is off"
    host.request("PUT", "/machines/manager/power", {"on": True})
    until(lambda: "address" in machine(host, "manager"), "it is awake")
    folder = host.folder / "disks/manager"
    orlop = OrlopMachine(folder, at, int(made["address"].rpartition(":")[2]), "deploy", "deploy")  # type: ignore[attr-defined]
    assert orlop.request("GET", "/about")["state"] == "fresh"  # type: ignore[index]
    assert machine(host, "manager")["certificate"] == orlop.fingerprint
    host.request("DELETE", "/machines/manager")
    assert not folder.exists()
    assert free(str(made["address"]))


def test_a_machine_with_too_little_memory_never_wakes_up_and_says_nothing(
    installs: Installs,
) -> None:
    host, at = installs(), loopback()
    host.request("PUT", "/stores/fast", {"device": "disk-fast", "sealed": False})
    made = {"store": "fast", "image": "orlop-7", "memory": 1024, "address": f"{at}:{free_port(at)}"}
    host.request("PUT", "/machines/manager", made)
    host.request("PUT", "/machines/manager/power", {"on": True})
    assert machine(host, "manager") == {
        "on": True,
        "store": "fast",
        "image": "orlop-7",
        "memory": 1024,
    }


def machine(host: KeelsonHost, name: str) -> Any:
    return host.request("GET", f"/machines/{name}")
