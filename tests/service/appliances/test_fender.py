"""An endpoint manager in three pieces, of which endpoints trust the one."""

from __future__ import annotations

from saltmere.fender.machine import FenderServer
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Fender = Protected[FenderServer]


def test_a_comparison_says_exactly_what_changed(fender: Fender) -> None:
    first = fender.take()
    assert fender.client.backup(first).findings == []
    assert fender.changed(first) == []
    fender.machine.request("PUT", "/policies/guests", {"rule": "the web alone"})
    assert sorted(fender.changed(first)) == ["fender.json", "list.json"]


def test_lost_it_comes_back_and_every_endpoint_answers(fender: Fender) -> None:
    backup, before = fender.take(), fender.machine.state()
    new = fender.fresh()
    new.reach_endpoints_of(fender.machine)
    fender.machine.lose()
    fender.restore(fender.draft(backup, new))
    assert new.state() == before


def test_without_its_key_no_endpoint_answers_and_it_is_not_proved(fender: Fender) -> None:
    backup = fender.take()
    new = fender.fresh()
    new.reach_endpoints_of(fender.machine)
    parts = ["database", "settings", "state"]
    sheet = fender.draft(backup, new, purpose="practise", parts=parts)
    run = fender.service.ended(fender.client.start_restore(sheet).id)
    assert not came_to(run, "proved")
    shown = fender.client.sheet(sheet).sheet
    [check] = [step for step in shown.steps if step.do == "check"]
    assert "these endpoints do not answer: till-1" in check.detail


def test_a_backup_without_the_key_says_what_is_lost(fender: Fender) -> None:
    (fender.machine.folder / "var/lib/fender/keys/server.key").unlink()
    found = {one.code: one.text for one in fender.client.backup(fender.take()).findings}
    assert "each must be visited" in found["lacks-key"]
    assert "till-1; till-2; till-3" in found["silent-endpoint"]


def test_a_backup_of_postgresql_goes_into_the_targets_own_database(fender: Fender) -> None:
    fender.machine.move_to_postgresql()
    backup, before = fender.take(), fender.machine.state()
    new = fender.fresh()
    new.reach_endpoints_of(fender.machine)
    sheet = fender.draft(backup, new)
    [place] = [
        one for one in fender.client.sheet(sheet).sheet.placed.values if one.name == "database"
    ]
    [entry] = place.entries
    assert (entry.backup, entry.target, entry.after) == ("postgresql", "built-in", "built-in")
    fender.restore(sheet)
    assert new.told("about")["database"] == "built-in"
    assert new.state() == before


def test_given_up_it_runs_again(fender: Fender) -> None:
    fender.machine.move_to_postgresql()
    backup = fender.take()
    new = fender.fresh()
    sheet = fender.draft(backup, new, place={"database": "backup"})
    run = fender.service.ended(fender.client.start_restore(sheet).id)
    assert run.state == "failed", "there is no PostgreSQL"
    assert not (new.folder / "var/lib/fender/runs").exists()
    undone = fender.service.ended(fender.client.undo_restore(sheet).id)
    assert undone.state == "done", undone.reason
    assert (new.folder / "var/lib/fender/runs").exists()
