"""The simulated log server keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import json
import urllib.error
from collections.abc import Callable
from typing import Any
from urllib.parse import quote

import pytest

from saltmere.logline.machine import LoglineMachine
from tests.places import free_port

Launches = Callable[..., LoglineMachine]
Install = Callable[[], LoglineMachine]


@pytest.fixture
def install_logline(launch_appliance: Launches, key_pair: tuple[str, str]) -> Install:
    """Install and start log servers, each with an SSH of its own."""

    def make() -> LoglineMachine:
        port = free_port("127.0.0.1")
        return launch_appliance(LoglineMachine, shell_port=port, authorised_key=key_pair[1])

    return make


@pytest.fixture
def logline(install_logline: Install) -> LoglineMachine:
    made = install_logline()
    made.configure("logline-1", "keeper", "made-up-keeper")
    return made


def bundle(machine: LoglineMachine, wanted: object = None) -> Any:
    made: Any = machine.request("POST", "/bundles", wanted or {})
    return machine.request("GET", f"/bundles/{made['bundle']}")


def refused(machine: LoglineMachine, told: object) -> str:
    with pytest.raises(urllib.error.HTTPError) as error:
        machine.request("POST", "/load", told)
    return str(json.load(error.value)["refused"])


def health(machine: LoglineMachine) -> str:
    told: Any = machine.request("GET", "/health")
    return str(told["health"])


def test_a_new_one_has_two_objects_and_keys_of_its_own(install_logline: Install) -> None:
    first, second = install_logline(), install_logline()
    assert first.names() == ["dashboard Overview", "stream All messages"]
    keys = [one.request("GET", "/about") for one in (first, second)]
    assert keys[0] != keys[1]
    assert health(first) == "ok"


def test_it_tells_the_key_of_its_shell(logline: LoglineMachine) -> None:
    about: Any = logline.request("GET", "/about")
    assert about["shell"] == {"port": logline.shell_port, "key": logline.server.host_key}


def test_what_is_chosen_draws_in_what_it_needs(logline: LoglineMachine) -> None:
    held = bundle(logline, {"objects": ["dashboard harbour"]})
    assert {(one["object"], one["by"]) for one in held["drawn"]} == {
        ("stream tides", "dashboard harbour"),
        ("lookup ports", "dashboard harbour"),
        ("input tide gauges", "stream tides"),
    }
    assert len(held["objects"]) == 4
    assert held["addons"] == ["tide-parser"]


def test_loading_makes_every_object_anew(logline: LoglineMachine, install_logline: Install) -> None:
    held, new = bundle(logline), install_logline()
    new.request("PUT", "/addons/tide-parser")
    new.request("POST", "/load", held)
    assert "stream All messages stands 2 times" in health(new), "the default came along"
    new.request("POST", "/load", held)
    assert "dashboard harbour stands 2 times" in health(new)
    new.request("DELETE", f"/objects/{quote('dashboard harbour')}")
    assert "dashboard harbour" not in new.names(), "both are removed"


def test_files_of_look_ups_are_in_no_bundle(
    logline: LoglineMachine, install_logline: Install
) -> None:
    assert "Saltmere Quay" not in json.dumps(bundle(logline))
    new = install_logline()
    new.request("PUT", "/addons/tide-parser")
    new.request("POST", "/load", bundle(logline))
    assert "lookup ports: /srv/lookups/ports.csv is missing" in health(new)


def test_a_bundle_needs_the_add_on_and_the_version(
    logline: LoglineMachine, install_logline: Install
) -> None:
    held, new = bundle(logline), install_logline()
    assert refused(new, held) == "the add-on tide-parser is not installed"
    assert refused(new, {**held, "version": "5.1"}) == ("this is a bundle of 5.1, and here is 5.2")
    assert new.names() == ["dashboard Overview", "stream All messages"]
