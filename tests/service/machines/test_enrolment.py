"""A system is renamed, taken by another kind, followed by another machine at its address, and
leaves.
"""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from fennox.client.api import Client, ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem, Retired, SystemChange
from fennox.wire.routines import NewRoutine
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.service.conftest import enrol
from tests.service.relay import Relay
from tests.service.restores.test_giving_up import GAUGE
from tests.service.running import Service, came_to


def bytes_of(folder: Path) -> dict[str, bytes]:
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file()
    }


def taken(service: Service, client: Client, system: str) -> str:
    run = service.ended(client.take(NewTake(system=system)).id)
    assert run.state == "done", run.reason
    return str(came_to(run, "backup"))


def same_machine(server: LinuxServer, name: str, **more: str) -> NewSystem:
    return NewSystem(
        name=name,
        kind="linux-server",
        address=f"{server.host}:{server.port}",
        login="quay-root",
        key=server.host_key,
        settings={"ssh-restart": SSH_RESTART},
        **more,
    )


def test_what_a_system_is_called_and_what_it_is_can_be_changed(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        backup = taken(service, client, "web-9")
        client.add_routine(
            NewRoutine(
                name="nightly",
                systems="name=web-9",
                when="every day at 02:40",
                store="attic",
                ladder="always 3",
            )
        )
        renamed = service.fennox("system", "set", "web-9", "--name", "web-10")
        assert renamed.returncode == 0, renamed.stderr
        shown = client.system("web-10")
        assert (shown.backups, shown.newest_backup, shown.routines) == (1, backup, ["nightly"])
        assert client.routine("nightly").systems == "name=web-10"
        assert service.fennox("system", "show", "web-9").returncode == 3
        with pytest.raises(ProblemError, match="web-10 already") as refused:
            client.add_system(same_machine(server, "web-10"))
        assert refused.value.problem.field == "name"

        client.add_kind(GAUGE)
        with pytest.raises(
            ProblemError, match="storage-server is reached otherwise than linux-server"
        ):
            client.change_system("web-10", SystemChange(kind="storage-server"))
        server.write("/srv/gauge/settings", "depth = 4\n")
        client.change_system("web-10", SystemChange(kind="tide-gauge"))
        newest = client.backup(taken(service, client, "web-10"))
        assert newest.kind == "tide-gauge"
        assert "gauge" in [part.name for part in newest.parts]


def test_a_successor_is_at_the_address_of_a_retired_system_and_only_then(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        with pytest.raises(ProblemError, match=r"web-9 is at .* already") as refused:
            client.add_system(same_machine(server, "web-10"))
        assert refused.value.problem.field == "address"
        assert "fennox system retire web-9" in (refused.value.problem.remedy or "")
        client.retire("web-9", Retired(because="replaced"))
        client.add_system(same_machine(server, "web-10"))
        with pytest.raises(ProblemError, match=r"web-10 is at .* already"):
            client.resume("web-9")
        assert client.system("web-9").retired is not None
        with pytest.raises(ProblemError, match="There is a system web-9 already") as refused:
            client.add_system(same_machine(server, "web-9"))
        assert "fennox system resume web-9" in (refused.value.problem.remedy or "")
        with pytest.raises(ProblemError, match="There is a system web-9 already"):
            client.change_system("web-10", SystemChange(name="web-9"))


def test_a_system_that_is_removed_leaves_its_backups_and_comes_back_with_them(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        backup = taken(service, client, "web-9")
        before = bytes_of(service.folder / "attic")
        asked = service.fennox("system", "remove", "web-9", "--because", "sold")
        assert asked.returncode == 5
        assert "Its backup stays in attic, and nothing is removed there." in asked.stderr
        assert "fennox store adopt attic" in asked.stderr
        assert client.system("web-9").backups == 1
        client.retire("web-9", Retired(because="on its way"))
        client.add_system(same_machine(server, "web-10", via="web-9"))
        refused = service.fennox("system", "remove", "web-9", "--because", "sold", "--yes")
        assert "The way to web-10 leads through web-9" in refused.stderr
        client.change_system("web-10", SystemChange(via="", needs=["web-9"]))
        removed = service.fennox("system", "remove", "web-9", "--because", "sold", "--yes")
        assert removed.returncode == 0, removed.stderr
        assert client.system("web-10").needs == []
        assert [system.name for system in client.systems()] == ["web-10"]
        assert bytes_of(service.folder / "attic") == before
        assert "web-9" not in service.fennox("status").stdout
        adopted = service.fennox("store", "adopt", "attic")
        assert adopted.returncode == 0, adopted.stderr
        assert client.backup(backup).system == "web-9"
        assert service.ended(client.verify(backup).id).state == "done"


def test_a_machine_is_waited_for_as_long_as_was_said(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    """Fifteen seconds for everybody are too few for a satellite line, and too many for a look at
    the whole estate.
    """
    enrol(service, server, key_pair[0])
    relay = Relay((server.host, server.port))
    try:
        with service.client() as client:
            far = same_machine(server, "web-9-far").model_copy(
                update={"address": f"{relay.host}:{relay.port}"}
            )
            client.add_system(far)
            set_so = service.fennox("system", "set", "web-9-far", "--patience", "1")
            assert "1 s at each connection" in set_so.stdout, set_so.stdout + set_so.stderr
            assert client.probe("web-9-far").reached
            relay.mood = "hung"
            begun = time.monotonic()
            assert "within 1 s" in (client.probe("web-9-far").problem or "")
            assert time.monotonic() - begun < 12
            with pytest.raises(ProblemError, match="patience"):
                client.change_system("web-9-far", SystemChange.model_construct(patience=0))
    finally:
        relay.close()
