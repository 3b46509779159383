"""A chassis manager: captures of two sorts, and identities that are lost unless asked for."""

from __future__ import annotations

from saltmere.thole.machine import TholeMachine
from tests.service.appliances.conftest import Protected

Thole = Protected[TholeMachine]
REPAIR = {"purpose": "repair", "login": None, "at": None, "key": None}


def test_a_comparison_says_exactly_what_changed(thole: Thole) -> None:
    first = thole.take()
    held = {one.path for one in thole.client.documents(first)}
    assert {"image.zip", "sections/slots.xml", "sections/power.xml"} < held
    assert thole.changed(first) == []
    thole.machine.request("PUT", "/sections/networks/deck-c", {"segment": "130"})
    assert sorted(thole.changed(first)) == ["inventory.json", "sections/networks.xml"]


def test_each_sort_of_capture_says_what_it_serves_for(thole: Thole) -> None:
    [loads] = [
        said
        for said in thole.client.backup(thole.take()).worth
        if "can be loaded into a running system" in said
    ]
    assert "Each section as a document" in loads
    assert "An image" not in loads


def test_lost_it_comes_back_with_identities_and_labels(thole: Thole) -> None:
    backup, before = thole.take(), thole.machine.inventory()
    thole.machine.lose()
    new = thole.fresh()
    sheet = thole.draft(backup, new)
    titles = [step.title for step in thole.client.sheet(sheet).sheet.steps]
    assert "Rebuild the empty unit from the image" in titles
    assert "Load every section into the running unit" not in titles
    thole.restore(sheet)
    assert {**new.inventory(), "administrator": "keeper"} == before
    thole.client.accept_restore(sheet)
    assert thole.client.system(thole.name).address == new.address


def test_an_image_is_not_for_a_running_unit_and_sections_are(thole: Thole) -> None:
    backup, before = thole.take(), thole.machine.inventory()
    sheet = thole.client.sheet(thole.draft(backup, thole.machine, **REPAIR)).sheet
    [said] = [one for one in sheet.findings if one.code == "target-otherwise"]
    assert (said.severity, said.text) == (
        "blocker",
        "The target says state: running, and not empty.",
    )
    assert "--part sections" in said.remedy
    thole.machine.request("DELETE", "/sections/slots/slot-2")
    thole.machine.request("PUT", "/sections/networks/deck-a", {"segment": "999"})
    thole.restore(thole.draft(backup, thole.machine, parts=["sections"], **REPAIR))
    assert thole.machine.inventory() == before, "the slot has its identity again"


def test_the_retrieval_address_is_asked_of_the_machine_that_was_reached(thole: Thole) -> None:
    thole.machine.request("PUT", "/name", {"name": "elsewhere.example"})
    held = {one.path: one.size for one in thole.client.documents(thole.take())}
    assert (held["image.zip"] or 0) > 100
