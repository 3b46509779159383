"""The simulated recorder manager keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from saltmere.beacon.machine import BeaconServer

Installs = Callable[..., BeaconServer]


@pytest.fixture
def beacon(install_appliance: Installs) -> BeaconServer:
    made = install_appliance(BeaconServer)
    made.set_up()
    return made


def refused(server: BeaconServer, *words: str, feed: str = "") -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words, feed=feed)
    return str(error.value).split("beacon: ")[1].strip()


def recordings(server: BeaconServer) -> list[str]:
    return sorted(path.name for path in (server.folder / "srv/recordings").iterdir())


def test_a_new_one_has_a_default_login_and_records(install_appliance: Installs) -> None:
    new = install_appliance(BeaconServer)
    assert new.state() == {"devices": [], "users": [{"name": "admin"}], "records": True}


def test_it_exports_to_nobody_while_a_client_is_connected(beacon: BeaconServer) -> None:
    beacon.do("connect", "m.quay")
    assert refused(beacon, "export") == "clients are connected: m.quay"
    beacon.do("disconnect", "m.quay")
    assert "made-up-quay" in beacon.do("export"), "with the passwords in clear"


def test_a_stopped_service_stays_stopped_over_a_restart(beacon: BeaconServer) -> None:
    beacon.do("stop")
    beacon.stop()
    beacon.start()
    assert refused(beacon, "test") == "it does not record"
    beacon.do("start")
    beacon.stop()
    beacon.start()
    assert beacon.do("test") == "sound\n"


def test_recordings_go_only_where_somebody_says_so(beacon: BeaconServer) -> None:
    first = recordings(beacon)
    assert refused(beacon, "remove", "device", "holm-pier") == ("that was neither yes nor no"), (
        "nothing was removed"
    )
    assert len(beacon.state()["devices"]) == 4
    beacon.do("remove", "device", "holm-pier", feed="no\n")
    assert recordings(beacon) == first
    beacon.do("remove", "device", "quay-pier", feed="yes\n")
    assert len(recordings(beacon)) == 3


def test_after_an_import_recordings_are_known_once_they_are_looked_for(
    beacon: BeaconServer, install_appliance: Installs
) -> None:
    new = install_appliance(BeaconServer)
    exported = beacon.do("export")
    assert refused(new, "import", feed=exported) == "its service runs; stop it first"
    new.do("stop")
    new.do("import", feed=exported)
    new.do("find")
    assert {one["found"] for one in new.state()["devices"]} == {"no"}, "their disk is not here"
    new.take_recordings_of(beacon)
    assert {one["found"] for one in new.state()["devices"]} == {"no"}, "nobody looked"
    new.do("find")
    assert {one["found"] for one in new.state()["devices"]} == {"yes"}
    assert [one["name"] for one in new.state()["users"]] == ["admin", "m.quay", "watch"]


@pytest.mark.parametrize("spoil", [lambda text: text[:100], lambda text: "{}", lambda text: ""])
def test_half_an_export_changes_nothing(beacon: BeaconServer, spoil: Callable[[str], str]) -> None:
    exported, before = beacon.do("export"), beacon.told("list")
    beacon.do("stop")
    assert refused(beacon, "import", feed=spoil(exported)) == "this is no export"
    assert beacon.told("list") == before
