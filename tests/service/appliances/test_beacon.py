"""A recorder manager: clients keep it from exporting, and recordings are found again or missed."""

from __future__ import annotations

import json
from typing import Any

from fennox.wire.backups import NewTake
from saltmere.beacon.machine import BeaconServer
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Beacon = Protected[BeaconServer]


def passwords(server: BeaconServer) -> Any:
    held = json.loads(server.read("/var/lib/beacon/settings.json"))
    return {name: one["password"] for name, one in {**held["users"], **held["devices"]}.items()}


def test_a_comparison_says_exactly_what_changed_and_shows_no_password(beacon: Beacon) -> None:
    first = beacon.take()
    assert beacon.client.backup(first).findings == []
    assert beacon.changed(first) == []
    beacon.machine.do("user", "m.quay", feed="made-up-other\n")
    second = beacon.take()
    assert beacon.changed(first, second) == ["beacon.json"]


def test_lost_it_comes_back_and_finds_its_recordings(beacon: Beacon) -> None:
    backup, before = beacon.take(), beacon.machine.state()
    known = passwords(beacon.machine)
    new = beacon.fresh()
    new.take_recordings_of(beacon.machine)
    beacon.machine.lose()
    beacon.restore(beacon.draft(backup, new))
    assert new.state() == before, "the well-known login is gone, and it records"
    assert passwords(new) == known


def test_without_the_disk_of_recordings_it_is_not_proved(beacon: Beacon) -> None:
    backup = beacon.take()
    new = beacon.fresh()
    sheet = beacon.draft(backup, new)
    run = beacon.service.ended(beacon.client.start_restore(sheet).id)
    assert not came_to(run, "proved")
    shown = beacon.client.sheet(sheet).sheet
    [check] = [step for step in shown.steps if step.do == "check"]
    assert "recordings are not found of gannet-pier, holm-pier" in check.detail
    assert shown.proof is not None
    lacking = {one.name: one.missing for one in shown.proof.lists}
    assert len(lacking["devices whose recordings are found"]) == 4


def test_a_take_while_a_client_is_connected_says_who(beacon: Beacon) -> None:
    beacon.machine.do("connect", "m.quay")
    run = beacon.service.ended(beacon.client.take(NewTake(system=beacon.name)).id)
    assert run.state == "failed"
    assert "clients are connected: m.quay" in run.reason


def test_devices_that_are_removed_keep_their_recordings(beacon: Beacon) -> None:
    backup, before = beacon.take(), beacon.machine.state()
    beacon.machine.do("device", "ferry-deck", "10.6.1.1", feed="made-up-deck\n")
    folder = beacon.machine.folder / "srv/recordings"
    recordings = sorted(path.name for path in folder.iterdir())
    assert len(recordings) == 5
    repair = {"purpose": "repair", "login": None, "at": None, "key": None}
    beacon.restore(beacon.draft(backup, beacon.machine, **repair))
    assert beacon.machine.state() == before
    assert sorted(path.name for path in folder.iterdir()) == recordings


def test_a_stopped_service_is_named_in_every_backup(beacon: Beacon) -> None:
    beacon.machine.do("stop")
    found = {one.code for one in beacon.client.backup(beacon.take()).findings}
    assert found == {"records-nothing"}


def test_given_up_it_records_again(beacon: Beacon) -> None:
    backup = beacon.take()
    new = beacon.fresh()
    sheet = beacon.draft(backup, new)
    (new.folder / "var/lib/beacon/settings.new").mkdir()
    run = beacon.service.ended(beacon.client.start_restore(sheet).id)
    assert run.state == "failed"
    assert not new.told("about")["records"]
    undone = beacon.service.ended(beacon.client.undo_restore(sheet).id)
    assert undone.state == "done", undone.reason
    assert new.told("about")["records"]
