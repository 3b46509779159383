"""The simulated network manager keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest

from saltmere.lattice.machine import LatticeMachine
from tests.demo.sftp_place import SftpPlace
from tests.demo.test_hailer import ended
from tests.service.running import until

Launches = Callable[..., LatticeMachine]


@pytest.fixture
def lattice(launch_appliance: Launches, sftp: SftpPlace) -> LatticeMachine:
    made = launch_appliance(LatticeMachine)
    made.configure("lattice", "keeper", "made-up-keeper")
    place = {name: value for name, value in sftp.told.items() if name != "key"}
    made.request("PUT", "/place", place)
    return made


def pushed(machine: LatticeMachine) -> Any:
    begun: Any = machine.request("POST", "/pushes")
    return ended(machine, f"/pushes/{begun['run']}")


def test_files_are_named_after_whichever_member_is_active(
    lattice: LatticeMachine, sftp: SftpPlace
) -> None:
    assert pushed(lattice)["state"] == "done"
    lattice.request("POST", "/members/lattice-3/activate")
    assert pushed(lattice)["state"] == "done"
    names = [path.name for path in sorted(sftp.folder.iterdir())]
    assert [name.partition("_")[0] for name in names] == ["lattice-1"] * 2 + ["lattice-3"] * 2


def test_the_key_of_its_place_is_the_first_that_it_meets(
    lattice: LatticeMachine, sftp: SftpPlace
) -> None:
    told: Any = lattice.request("GET", "/place")
    assert told["learned"] == ""
    assert "secret" not in told
    pushed(lattice)
    told = lattice.request("GET", "/place")
    assert told["learned"] == sftp.told["key"]


def test_for_every_change_there_is_a_file(lattice: LatticeMachine, sftp: SftpPlace) -> None:
    lattice.request("PUT", "/schedule", {"on": "change"})
    for number in range(5):
        lattice.request("PUT", f"/networks/guests-{number}", {"vlan": 100 + number})
    until(lambda: len(list(sftp.folder.glob("*_own.cfg"))) == 5, "five files have come")


def test_it_loads_only_where_its_members_are_known_by_name(
    lattice: LatticeMachine, launch_appliance: Launches, sftp: SftpPlace
) -> None:
    pushed(lattice)
    new = launch_appliance(LatticeMachine)
    place = {name: value for name, value in sftp.told.items() if name != "key"}
    new.request("POST", "/load", place)
    assert ended(new, "/load") == {
        "state": "failed",
        "why": "the members do not know each other: lattice-1 is no name here",
    }
    new.name_members()
    new.request("POST", "/load", place)
    assert ended(new, "/load")["state"] == "loaded"
    assert new.inventory()["networks"] == lattice.inventory()["networks"]


def test_another_version_is_not_loaded(
    lattice: LatticeMachine, launch_appliance: Launches, sftp: SftpPlace
) -> None:
    pushed(lattice)
    [file] = sftp.folder.glob("*.cfg")
    file.write_text(json.dumps({**json.loads(file.read_text()), "lattice": "6.0"}))
    new = launch_appliance(LatticeMachine)
    new.name_members()
    new.request("POST", "/load", {n: v for n, v in sftp.told.items() if n != "key"})
    assert ended(new, "/load")["why"] == "this is a file of 6.0, and here is 7.1"
    assert new.inventory()["networks"] == []
