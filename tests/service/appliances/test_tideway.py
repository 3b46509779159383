"""An address server: its clients use it, it does not replay over what is there, and a new one must
be authorised by the directory.
"""

from __future__ import annotations

from saltmere.tideway.machine import TidewayServer
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Tideway = Protected[TidewayServer]
REPAIR = {"purpose": "repair", "login": None, "at": None, "key": None}


def test_a_comparison_says_exactly_what_changed(tideway: Tideway) -> None:
    first = tideway.take()
    assert tideway.client.backup(first).findings == []
    tideway.machine.do("lease", "desks", "02:00:00:00:08:51")
    assert tideway.changed(first) == [], "who has an address is no setting"
    tideway.machine.do("option", "desks", "domain", "desks.saltmere.example")
    assert sorted(tideway.changed(first)) == ["list.json", "tideway.txt"]


def test_lost_it_comes_back_once_the_directory_has_authorised_the_new_one(
    tideway: Tideway,
) -> None:
    backup, before = tideway.take(), tideway.machine.state()
    tideway.machine.lose()
    new = tideway.fresh()
    sheet = tideway.draft(backup, new)
    run = tideway.service.ended(tideway.client.start_restore(sheet).id)
    assert run.state == "waiting"
    gate = tideway.client.sheet(sheet).sheet.open_gate()
    assert gate is not None
    assert "authorise the target by its id" in gate.question
    waits = tideway.service.ended(tideway.client.answer(sheet, gate.number, "done").id)
    assert waits.state == "waiting", "it is looked at, whatever was answered"
    assert new.state()["scopes"] == [], "nothing was written"
    new.authorise()
    gate = tideway.client.sheet(sheet).sheet.open_gate()
    assert gate is not None
    done = tideway.service.ended(tideway.client.answer(sheet, gate.number, "done").id)
    assert done.state == "done", done.reason
    assert came_to(done, "proved")
    assert new.state() == before


def test_a_repair_waits_for_clients_and_replaces_what_is_there(tideway: Tideway) -> None:
    backup, before = tideway.take(), tideway.machine.state()
    tideway.machine.do("option", "berths", "router", "10.9.0.254")
    tideway.machine.do("scope", "guests", "10.11.0.10", "10.11.0.99")
    sheet = tideway.draft(backup, tideway.machine, **REPAIR)
    run = tideway.service.ended(tideway.client.start_restore(sheet).id)
    assert run.state == "waiting"
    gate = tideway.client.sheet(sheet).sheet.open_gate()
    assert gate is not None
    assert "Clients have addresses from the target" in gate.question
    assert tideway.machine.told("list")["clients"] != [], "nobody lost an address"
    in_force = tideway.client.sheet(sheet).sheet.in_force()
    assert [one.meanwhile.says for one in in_force if one.meanwhile is not None] == [
        "The target serves nobody: no client gets an address from it."
    ]
    for address in ("10.7.0.10", "10.7.0.11"):
        tideway.machine.do("free", address)
    done = tideway.service.ended(tideway.client.answer(sheet, gate.number, "done").id)
    assert done.state == "done", done.reason
    assert came_to(done, "proved")
    assert tideway.machine.state() == before


def test_given_up_it_serves_again(tideway: Tideway) -> None:
    backup, before = tideway.take(), tideway.machine.told("list")
    sheet = tideway.draft(backup, tideway.machine, **REPAIR)
    run = tideway.service.ended(tideway.client.start_restore(sheet).id)
    tideway.client.stop_run(run.id)
    assert not tideway.machine.told("about")["serves"]
    undone = tideway.service.ended(tideway.client.undo_restore(sheet).id)
    assert undone.state == "done", undone.reason
    assert tideway.machine.told("about")["serves"]
    assert tideway.machine.told("list") == before
