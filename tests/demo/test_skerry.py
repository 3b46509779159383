"""The simulated appliance keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import urllib.error
from typing import Any

import pytest

from saltmere.skerry import Skerry
from tests.engine.appliances import Place, place

__all__ = ["place"]


def export(appliance: Skerry, secret_key: str) -> Any:
    job: Any = appliance.request("POST", "/api/exports", {"secret_key": secret_key})
    states: list[str] = []
    while not states or states[-1] != "ready":
        looked: Any = appliance.request("GET", f"/api/exports/{job['export']}")
        states.append(looked["state"])
    assert states[0] == "working"
    return appliance.request("GET", f"/api/exports/{job['export']}/file")


def load(appliance: Skerry, bundle: Any) -> None:
    appliance.request("PUT", "/api/quiet", {"quiet": True})
    appliance.request("POST", "/api/import", bundle)


def test_a_fresh_appliance_has_default_login_objects_and_its_own_certificate(place: Place) -> None:
    first, second = place(), place()
    state: Any = first.request("GET", "/api/state")
    assert [share["name"] for share in state["shares"]] == ["public"]
    assert first.fingerprint != second.fingerprint


@pytest.mark.long
def test_an_import_needs_the_quiet_state_and_brings_address_login_and_objects_back(
    place: Place,
) -> None:
    old, fresh = place(), place()
    old.configure("quay", "keeper", "made-up-password")
    bundle = export(old, "yes")
    with pytest.raises(urllib.error.HTTPError, match="409"):
        fresh.request("POST", "/api/import", bundle)
    old.stop()
    load(fresh, bundle)
    fresh.host, fresh.port, fresh.account, fresh.password = (
        old.host,
        old.port,
        "keeper",
        "made-up-password",
    )
    fresh.wait()
    state: Any = fresh.request("GET", "/api/state")
    assert {user["password"] for user in state["users"]} == {"known"}
    assert "vessels" in [share["name"] for share in state["shares"]]
    assert "public" in [share["name"] for share in state["shares"]]


def test_without_the_secret_key_stored_passwords_are_lost_elsewhere(place: Place) -> None:
    old, fresh = place(), place()
    old.configure("quay", "keeper", "made-up-password")
    bundle = export(old, "no")
    old.stop()
    load(fresh, bundle)
    fresh.host, fresh.port, fresh.account, fresh.password = (
        old.host,
        old.port,
        "keeper",
        "made-up-password",
    )
    fresh.wait()
    state: Any = fresh.request("GET", "/api/state")
    assert {user["password"] for user in state["users"] if not user["default"]} == {"lost"}


def test_another_major_version_or_rubbish_is_refused_and_changes_nothing(place: Place) -> None:
    old, fresh = place(), place()
    bundle = export(old, "yes")
    for wrong in ({**bundle, "version": "9.0a"}, {**bundle, "shares": [{}]}, {"format": "other"}):
        fresh.request("PUT", "/api/quiet", {"quiet": True})
        with pytest.raises(urllib.error.HTTPError, match="422"):
            fresh.request("POST", "/api/import", wrong)
    assert fresh.request("GET", "/api/health") == {"health": "ok"}


def volumes(appliance: Skerry) -> dict[str, tuple[bool, bool]]:
    state: Any = appliance.request("GET", "/api/state")
    return {one["name"]: (one["found"], one["open"]) for one in state["volumes"]}


def test_volumes_are_found_by_id_and_sealed_ones_need_their_keys(place: Place) -> None:
    old = place()
    old.configure("quay", "keeper", "made-up-password")
    old.add_volumes()
    assert volumes(old) == {"charts": (True, True), "crew-files": (True, True)}
    bundle, keys = export(old, "yes"), old.request("GET", "/api/keys")
    assert "crew-files" in str(bundle)
    assert not any(str(key) in str(bundle) for key in dict(keys).values())  # type: ignore[call-overload]
    old.lose()
    elsewhere, moved = place(), place(disks=old.disks)
    for appliance in (elsewhere, moved):
        load(appliance, bundle)
        appliance.host, appliance.port = old.host, old.port
        appliance.account, appliance.password = "keeper", "made-up-password"
        appliance.wait()
        found = volumes(appliance)
        if appliance is moved:
            assert found == {"charts": (True, True), "crew-files": (True, False)}
            appliance.request("POST", "/api/keys", keys)
            assert volumes(appliance)["crew-files"] == (True, True)
        else:
            assert found == {"charts": (False, False), "crew-files": (False, False)}
        appliance.stop()


def test_another_version_is_refused(place: Place) -> None:
    old, other = place(), place(version="4.2c")
    bundle = export(old, "yes")
    other.request("PUT", "/api/quiet", {"quiet": True})
    with pytest.raises(urllib.error.HTTPError, match="422"):
        other.request("POST", "/api/import", bundle)
