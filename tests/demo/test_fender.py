"""The simulated endpoint manager keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import urllib.error
from collections.abc import Callable

import pytest

from saltmere.fender.machine import FenderServer

Installs = Callable[..., FenderServer]


@pytest.fixture
def fender(install_appliance: Installs) -> FenderServer:
    made = install_appliance(FenderServer)
    made.set_up()
    return made


def refused(server: FenderServer, *words: str, feed: str = "") -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words, feed=feed)
    return str(error.value).split("fender: ")[1].strip()


def test_a_new_one_has_a_key_and_a_login_of_its_own(install_appliance: Installs) -> None:
    first, second = install_appliance(FenderServer), install_appliance(FenderServer)
    assert [one["name"] for one in first.state()["people"]] == ["admin"]
    assert first.state()["key"] != second.state()["key"]
    assert first.told("about")["database"] == "built-in"


def test_endpoints_trust_the_old_key_and_no_other(
    fender: FenderServer, install_appliance: Installs
) -> None:
    assert fender.do("test") == "sound\n"
    new = install_appliance(FenderServer)
    new.reach_endpoints_of(fender)
    new.do("stop")
    new.do("load", feed=fender.do("dump"))
    new.do("start")
    assert refused(new, "test") == ("these endpoints do not answer: till-1, till-2, till-3, till-4")
    new.write("/var/lib/fender/keys/server.key", fender.read("/var/lib/fender/keys/server.key"))
    assert new.do("test") == "sound\n"


def test_its_database_moves_in_three_steps(fender: FenderServer) -> None:
    before = fender.state()
    assert refused(fender, "move", "switch") == (
        "prepare, copy and switch come one after the other"
    )
    fender.move_to_postgresql()
    assert fender.told("about")["database"] == "postgresql"
    assert fender.state() == before
    fender.do("policy", "guests", "the web alone")
    (fender.folder / "var/lib/fender/objects.db").unlink()
    assert "guests" in str(fender.state()["policies"]), "the built-in one is not used any more"


def test_a_dump_of_the_one_database_goes_into_the_other(
    fender: FenderServer, install_appliance: Installs
) -> None:
    fender.move_to_postgresql()
    new = install_appliance(FenderServer)
    new.do("stop")
    new.do("load", feed=fender.do("dump"))
    assert new.told("about")["database"] == "built-in"
    assert new.state()["policies"] == fender.state()["policies"]


def test_it_loads_while_it_is_stopped_and_nothing_by_halves(fender: FenderServer) -> None:
    dumped, before = fender.do("dump"), fender.told("list")
    assert refused(fender, "load", feed=dumped) == "its service runs; stop it first"
    fender.do("stop")
    assert refused(fender, "load", feed=dumped[:-40]) == "this is no dump"
    assert fender.told("list") == before


def test_over_https_it_tells_and_changes_what_it_manages(fender: FenderServer) -> None:
    assert fender.request("GET", "/list") == fender.told("list")
    fender.request("PUT", "/endpoints/till-9", {"policy": "tills"})
    fender.request("DELETE", "/policies/desks")
    told = fender.told("list")
    assert {"name": "till-9", "policy": "tills", "answers": True} in told["endpoints"]
    assert "desks" not in {one["name"] for one in told["policies"]}
    fender.password = "wrong"
    with pytest.raises(urllib.error.HTTPError, match="401"):
        fender.request("GET", "/list")
