"""A voice mail: a run of many files of which none may be missing, of components asked for."""

from __future__ import annotations

import json

from fennox.wire.backups import NewTake
from saltmere.hailer.machine import HailerMachine
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Hailer = Protected[HailerMachine]


def test_a_comparison_says_exactly_what_changed(hailer: Hailer) -> None:
    first = hailer.take()
    held = {one.path for one in hailer.client.documents(first)}
    assert sum("-greeting-" in path for path in held) == 4, "every component was asked for"
    assert hailer.changed(first, hailer.take()) == [], "only that the run was another one"
    hailer.machine.request("PUT", "/routes/quay", {"to": "brannagh"})
    assert hailer.changed(first) == ["inventory.json"]


def test_lost_it_comes_back_and_pulls_its_run_from_the_drop(hailer: Hailer) -> None:
    backup, before = hailer.take(), hailer.machine.inventory()
    pins = hailer.machine.folder / "exchange.db"
    assert pins.exists()
    hailer.machine.lose()
    new = hailer.fresh()
    sheet = hailer.draft(backup, new)
    said = [one.text for one in hailer.client.sheet(sheet).sheet.findings]
    assert "mailboxes: only the target has operator; it goes." in said
    hailer.restore(sheet)
    assert {**new.inventory(), "administrator": "keeper"} == before
    step = next(one for one in hailer.client.sheet(sheet).sheet.steps if one.do == "offer")
    assert step.detail.startswith("7 documents, ")
    hailer.client.accept_restore(sheet)
    assert hailer.client.system(hailer.name).address == new.address


def test_one_missing_file_is_no_backup(hailer: Hailer) -> None:
    (hailer.machine.folder / "loses").touch()
    run = hailer.service.ended(hailer.client.take(NewTake(system=hailer.name)).id)
    assert run.state == "failed"
    assert "the machine says that it is done, but what it pushed is not whole" in run.reason
    assert "-greeting-tveit.snd is listed, and has not arrived" in run.reason
    assert hailer.client.backups(system=hailer.name) == []


def test_a_run_that_fails_is_said_with_its_reason(hailer: Hailer) -> None:
    place = {"host": hailer.machine.host, "port": 9, "account": "x", "secret": "made-up-wrong"}
    hailer.machine.request("PUT", "/place", {**place, "key": "SHA256:x", "folder": "/"})
    run = hailer.service.ended(hailer.client.take(NewTake(system=hailer.name)).id)
    assert run.state == "failed"
    assert "refuses" in run.reason
    assert "made-up-wrong" not in json.dumps(run.model_dump(mode="json"))


def test_greetings_that_are_lost_afterwards_are_missing_from_a_new_proof(hailer: Hailer) -> None:
    backup = hailer.take()
    new = hailer.fresh()
    sheet = hailer.draft(backup, new)
    hailer.restore(sheet)
    new.request("DELETE", "/greetings/tveit")
    run = hailer.service.ended(hailer.client.prove_restore(sheet).id)
    assert not came_to(run, "proved")
    proof = hailer.client.sheet(sheet).sheet.proof
    assert proof is not None
    assert {one.name: one.missing for one in proof.lists}["greetings"] == ["tveit"]
