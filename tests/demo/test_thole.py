"""The simulated chassis manager keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import urllib.error
from collections.abc import Callable
from typing import Any

import pytest

from saltmere.thole.machine import TholeMachine

Launches = Callable[..., TholeMachine]
ALL = {"identities": "yes", "labels": "yes"}


@pytest.fixture
def thole(launch_appliance: Launches) -> TholeMachine:
    made = launch_appliance(TholeMachine)
    made.configure("thole-1", "keeper", "made-up-keeper")
    return made


def given(machine: TholeMachine, method: str, path: str, body: bytes) -> None:
    machine.fetch(path, method, body)


def image(machine: TholeMachine, **more: str) -> bytes:
    machine.request("PUT", "/captures/one", {**more, "run": "yes"})
    return machine.fetch("/retrieve/one")


def without_administrator(machine: TholeMachine) -> Any:
    return {**machine.inventory(), "administrator": ""}


def test_a_new_unit_is_empty_and_each_has_an_id_of_its_own(launch_appliance: Launches) -> None:
    first, second = launch_appliance(TholeMachine), launch_appliance(TholeMachine)
    told: Any = first.request("GET", "/about")
    assert told["state"] == "empty"
    other: Any = second.request("GET", "/about")
    assert told["id"] != other["id"]


def test_an_order_is_saved_and_carried_out_only_where_it_says_so(thole: TholeMachine) -> None:
    thole.request("PUT", "/captures/one", ALL)
    assert thole.request("GET", "/captures/one") == {"state": "saved"}
    with pytest.raises(urllib.error.HTTPError, match="404"):
        thole.fetch("/retrieve/one")
    told: Any = thole.request("PUT", "/captures/one", {**ALL, "run": "yes"})
    assert thole.request("GET", "/captures/one") == {"state": "done"}
    assert told == {"retrieve": "https://thole-1.internal:443/retrieve/one"}


def test_an_image_rebuilds_an_empty_unit_alone(
    thole: TholeMachine, launch_appliance: Launches
) -> None:
    data, new = image(thole, **ALL), launch_appliance(TholeMachine)
    with pytest.raises(urllib.error.HTTPError, match="409"):
        given(thole, "POST", "/image", data)
    given(new, "POST", "/image", data)
    assert without_administrator(new) == without_administrator(thole)


def test_identities_and_labels_are_lost_unless_they_are_asked_for(
    thole: TholeMachine, launch_appliance: Launches
) -> None:
    new = launch_appliance(TholeMachine)
    given(new, "POST", "/image", image(thole))
    old, made = thole.inventory()["slots"], new.inventory()["slots"]
    assert [one["name"] for one in made] == [one["name"] for one in old]
    assert not {one["identity"] for one in made} & {one["identity"] for one in old}
    assert not any("label" in one for one in made)


def test_sections_load_into_a_running_unit_alone(
    thole: TholeMachine, launch_appliance: Launches
) -> None:
    document = thole.fetch("/sections/slots?identities=yes&labels=yes")
    new = launch_appliance(TholeMachine)
    with pytest.raises(urllib.error.HTTPError, match="409"):
        given(new, "PUT", "/sections/slots", document)
    before = thole.inventory()
    thole.request("DELETE", "/sections/slots/slot-2")
    thole.request("PUT", "/sections/slots/slot-9", {"label": "added"})
    given(thole, "PUT", "/sections/slots", document)
    assert thole.inventory() == before


def test_half_an_image_changes_nothing(thole: TholeMachine, launch_appliance: Launches) -> None:
    data, new = image(thole, **ALL), launch_appliance(TholeMachine)
    with pytest.raises(urllib.error.HTTPError, match="409"):
        given(new, "POST", "/image", data[: len(data) // 2])
    told: Any = new.request("GET", "/about")
    assert told["state"] == "empty"
