"""The simulated voice mail keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import time
import urllib.error
from collections.abc import Callable
from typing import Any

import pytest

from saltmere.appliance import RunningAppliance
from saltmere.hailer.machine import COMPONENTS, HailerMachine
from tests.demo.sftp_place import SftpPlace

Launches = Callable[..., HailerMachine]


@pytest.fixture
def hailer(launch_appliance: Launches, sftp: SftpPlace) -> HailerMachine:
    made = launch_appliance(HailerMachine)
    made.configure("hailer-1", "keeper", "made-up-keeper")
    made.request("PUT", "/place", sftp.told)
    return made


def ended(machine: RunningAppliance, path: str) -> Any:
    ends = time.monotonic() + 30
    while True:
        told: Any = machine.request("GET", path)
        if told["state"] not in ("running", "fetching"):
            return told
        assert time.monotonic() < ends
        time.sleep(0.05)


def pushed(machine: HailerMachine, components: list[str] | None = None) -> Any:
    begun: Any = machine.request("POST", "/runs", {"components": components or []})
    return ended(machine, f"/runs/{begun['run']}")


def loaded(machine: HailerMachine, place: SftpPlace) -> Any:
    machine.request("POST", "/load", place.told)
    return ended(machine, "/load")


def test_a_new_one_has_one_mailbox_and_no_place(launch_appliance: Launches) -> None:
    new = launch_appliance(HailerMachine)
    assert new.inventory()["mailboxes"] == [{"name": "operator"}]
    with pytest.raises(urllib.error.HTTPError, match="409"):
        pushed(new)


def test_a_run_backs_up_what_it_is_told_and_by_itself_routes_alone(
    hailer: HailerMachine, sftp: SftpPlace
) -> None:
    assert pushed(hailer)["state"] == "done"
    assert not any("mailboxes" in name for name in sftp.files())
    for path in sftp.folder.iterdir():
        path.unlink()
    pushed(hailer, COMPONENTS)
    names = list(sftp.files())
    assert sum("-greeting-" in name for name in names) == 4
    assert len(names) == 7


def test_a_new_one_becomes_what_was_backed_up(
    hailer: HailerMachine, launch_appliance: Launches, sftp: SftpPlace
) -> None:
    pushed(hailer, COMPONENTS)
    new = launch_appliance(HailerMachine)
    assert loaded(new, sftp) == {"state": "loaded", "why": ""}
    assert {**new.inventory(), "administrator": "keeper"} == hailer.inventory()
    assert new.request("GET", "/health") == {"health": "ok"}


def test_components_that_a_backup_lacks_stay(
    hailer: HailerMachine, launch_appliance: Launches, sftp: SftpPlace
) -> None:
    pushed(hailer, ["mailboxes"])
    new = launch_appliance(HailerMachine)
    loaded(new, sftp)
    assert new.inventory()["routes"] == []
    assert new.request("GET", "/health") == {
        "health": "no greeting: brannagh, oyelaran, quayside, tveit"
    }


@pytest.mark.parametrize(("spoil", "why"), [("lose", "is missing"), ("damage", "is damaged")])
def test_one_file_makes_all_of_it_worthless(
    hailer: HailerMachine, launch_appliance: Launches, sftp: SftpPlace, spoil: str, why: str
) -> None:
    pushed(hailer, COMPONENTS)
    path = next(path for path in sftp.folder.iterdir() if "-greeting-tveit" in path.name)
    if spoil == "lose":
        path.unlink()
    else:
        path.write_bytes(b"noise")
    new = launch_appliance(HailerMachine)
    before = new.inventory()
    told = loaded(new, sftp)
    assert (told["state"], why in told["why"]) == ("failed", True), told
    assert new.inventory() == before


def test_it_may_forget_a_file_and_say_that_it_is_done(
    hailer: HailerMachine, sftp: SftpPlace
) -> None:
    (hailer.folder / "loses").touch()
    assert pushed(hailer, COMPONENTS)["state"] == "done"
    assert len(sftp.files()) == 6
