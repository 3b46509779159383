"""A manager of virtualization hosts: it pushes, goes back into a new deployment alone, and needs
its passphrase.
"""

from __future__ import annotations

from typing import Any

import pytest

from fennox.client.api import ProblemError
from fennox.wire.drops import DropWanted
from fennox.wire.machines.enrolling import SystemChange
from fennox.wire.stores import LoginChange, NewLogin, NewLoginPlace
from saltmere.orlop.machine import OrlopMachine
from tests.service.appliances.conftest import PHRASE, Protected
from tests.service.drops.test_pushes import switched_on
from tests.service.running import came_to

Orlop = Protected[OrlopMachine]


def inventory(machine: OrlopMachine) -> Any:
    return machine.request("GET", "/inventory")


def entered(machine: OrlopMachine, there: OrlopMachine | None = None) -> OrlopMachine:
    """With the login of the backup, perhaps at another's address."""
    machine.account, machine.password = "keeper", "made-up-keeper"
    if there is not None:
        machine.host, machine.port = there.host, there.port
    machine.wait()
    return machine


def test_a_take_holds_its_own_backup_and_a_comparison_says_what_changed(orlop: Orlop) -> None:
    first = orlop.take()
    held = {one.path for one in orlop.client.documents(first)}
    assert {"passphrase", "backup/network.json", "switches/fleet.json"} <= held
    assert len([path for path in held if path.startswith("backup/orlop-")]) == 3
    assert orlop.client.drop_of(orlop.name).files == []
    assert orlop.changed(first, orlop.take()) == [], "only that it was encrypted anew"
    orlop.machine.request("PUT", "/labels/winter", {"on": []})
    assert orlop.changed(first, orlop.take()) == ["inventory.json"]
    assert orlop.changed(first) == ["inventory.json"], "of the live one, which is not asked to push"


def test_lost_it_comes_back_in_a_new_deployment_and_takes_over(orlop: Orlop) -> None:
    backup, before = orlop.take(), inventory(orlop.machine)
    known = orlop.client.system(orlop.name).machine
    orlop.machine.lose()
    new = orlop.fresh()
    sheet = orlop.draft(backup, new, place={"network-address": "backup"})
    shown = orlop.client.sheet(sheet).sheet
    [loads] = [step for step in shown.steps if step.do == "offer"]
    assert (loads.stoppable, loads.no_return, loads.repeat) == (False, True, False)
    assert "‹passphrase›" in loads.commands[-1]
    assert PHRASE not in shown.model_dump_json()
    orlop.restore(sheet)
    loads = next(step for step in orlop.client.sheet(sheet).sheet.steps if step.do == "offer")
    sent = f"{loads.size} bytes" if (loads.size or 0) < 1000 else f"{(loads.size or 0) / 1000:.1f}"
    assert loads.detail.startswith("4 documents, ")
    assert sent.split()[0] in loads.detail
    assert inventory(entered(new, orlop.machine)) == before
    orlop.client.accept_restore(sheet)
    system = orlop.client.system(orlop.name)
    assert system.address == new.address
    assert system.key == new.fingerprint
    assert system.machine is not None
    assert known is not None
    assert system.machine.id != known.id, "a new deployment is another machine"
    again = orlop.take()
    assert orlop.client.backup(again).findings == []


def test_it_keeps_its_own_address_unless_somebody_chooses_otherwise(orlop: Orlop) -> None:
    backup = orlop.take()
    orlop.machine.stop()
    new = orlop.fresh()
    orlop.restore(orlop.draft(backup, new))
    assert inventory(entered(new))["administrator"] == "keeper"


def test_practice_pushes_nowhere_and_leaves_the_old_one_alone(orlop: Orlop) -> None:
    schedule = {"hours": 24, "keep": 3, "history": True, "passphrase": PHRASE}
    orlop.machine.request("PUT", "/backups/schedule", schedule)
    backup, before = orlop.take(), inventory(orlop.machine)
    new = orlop.fresh()
    orlop.restore(orlop.draft(backup, new, purpose="practise"))
    assert inventory(entered(new))["schedule"] == {}, "it would push under the other's name"
    assert inventory(orlop.machine) == before
    assert before["schedule"] == {"hours": 24, "keep": 3, "history": True}


def test_it_goes_into_a_new_deployment_alone(orlop: Orlop) -> None:
    backup = orlop.take()
    used = orlop.fresh()
    used.request("POST", "/setup/begin")
    sheet = orlop.client.sheet(orlop.draft(backup, used)).sheet
    [said] = [one for one in sheet.findings if one.code == "target-otherwise"]
    assert (said.severity, said.text) == (
        "blocker",
        "The target says state: running, and not fresh.",
    )
    assert "Deploy one on a host" in said.remedy


def test_one_switch_goes_back_into_the_running_manager(orlop: Orlop) -> None:
    backup, before = orlop.take(), inventory(orlop.machine)
    orlop.machine.request("DELETE", "/switches/fleet")
    repair = {"purpose": "repair", "login": None, "parts": ["switches"], "at": None, "key": None}
    sheet = orlop.draft(backup, orlop.machine, **repair)
    [puts] = [step for step in orlop.client.sheet(sheet).sheet.steps if step.do == "upload"]
    assert puts.names == ["fleet"]
    assert puts.commands == ["PUT /switches/fleet  < switches/fleet.json"]
    orlop.restore(sheet)
    assert inventory(orlop.machine) == before


def test_of_several_switches_that_are_missing_only_the_chosen_one_goes_back(orlop: Orlop) -> None:
    orlop.machine.request("PUT", "/switches/crew", {"segments": {"cabins": 310}, "hosts": []})
    backup, before = orlop.take(), inventory(orlop.machine)
    orlop.machine.request("DELETE", "/switches/fleet")
    orlop.machine.request("DELETE", "/switches/crew")
    repair = {"purpose": "repair", "login": None, "parts": ["switches"], "at": None, "key": None}
    sheet = orlop.draft(backup, orlop.machine, **repair, only={"switches": ["crew"]})
    shown = orlop.client.sheet(sheet).sheet
    [puts] = [step for step in shown.steps if step.do == "upload"]
    assert puts.names == ["crew"]
    orlop.restore(sheet)
    now = inventory(orlop.machine)
    assert [one["name"] for one in now["switches"]] == ["crew", "offices"]
    assert {**now, "switches": []} == {**before, "switches": []}
    proof = orlop.client.sheet(sheet).sheet.proof
    assert proof is not None
    assert [(item.name, item.backup, item.missing, item.extra) for item in proof.lists] == [
        ("switches", 1, [], [])
    ]
    for wrong, said in (
        ({"only": {"switches": ["quay"]}}, "The backup holds no quay among its switches."),
        ({"only": {"hosts": ["a"]}}, "puts back no single hosts"),
        ({"only": {"switches": ["crew"]}, "parts": None}, "is put back whole"),
        ({"only": {"switches": []}}, "No switches are named"),
    ):
        with pytest.raises((ProblemError, AssertionError), match=said):
            orlop.draft(backup, orlop.machine, **{**repair, **wrong})


def test_the_old_one_must_be_off_where_its_address_is_taken_over(orlop: Orlop) -> None:
    backup = orlop.take()
    new = orlop.fresh()
    sheet = orlop.draft(backup, new, place={"network-address": "backup"})
    texts = [one.text for one in orlop.client.sheet(sheet).sheet.findings]
    assert any("answers" in text and orlop.machine.address in text for text in texts), texts


def test_another_passphrase_now_opens_the_backup_of_then(orlop: Orlop) -> None:
    backup = orlop.take()
    orlop.client.change_login(
        f"{orlop.name}-phrase", LoginChange(password="mackerel over the mole")
    )
    orlop.machine.stop()
    new = orlop.fresh()
    orlop.restore(orlop.draft(backup, new))
    assert inventory(entered(new))["administrator"] == "keeper"


def test_a_backup_without_history_says_so(orlop: Orlop) -> None:
    settings = {"passphrase": f"{orlop.name}-phrase", "history": "no"}
    orlop.client.change_system(orlop.name, SystemChange(settings=settings))
    [said] = orlop.client.backup(orlop.take()).findings
    assert said.text == (
        "The backup holds no history: after a restore nobody can see who changed what before it."
    )


def test_the_passphrase_is_sent_nowhere_else(orlop: Orlop) -> None:
    """An operator drafts onto a machine of their own, with a login that may be used there."""
    backup = orlop.take()
    theirs = orlop.fresh()
    place = NewLoginPlace(address=theirs.address, key=theirs.fingerprint)
    orlop.client.admit_login(f"{orlop.name}-new", place)
    with orlop.service.another("night-watch", "operator") as operator:
        with pytest.raises(ProblemError, match=f"{orlop.name}-phrase does not belong at"):
            operator.draft(orlop.wanted(backup, theirs))
        orlop.client.admit_login(f"{orlop.name}-phrase", place)
        operator.draft(orlop.wanted(backup, theirs))


def test_a_redraft_sends_no_secret_that_was_not_sent_before(orlop: Orlop) -> None:
    backup = orlop.take()
    new = orlop.fresh()
    place = NewLoginPlace(address=new.address, key=new.fingerprint)
    for of in ("new", "phrase"):
        orlop.client.admit_login(f"{orlop.name}-{of}", place)
    orlop.client.add_login(
        NewLogin(name=f"{orlop.name}-other", account="orlop", password="cormorant on a post")
    )
    with orlop.service.another("day-watch", "operator") as operator:
        run = orlop.service.ended(operator.draft(orlop.wanted(backup, new)).id)
        sheet = str(came_to(run, "sheet"))
        orlop.service.ended(operator.redraft_restore(sheet, {}).id)
        another = SystemChange(settings={"passphrase": f"{orlop.name}-other"})
        orlop.client.change_system(orlop.name, another)
        with pytest.raises(ProblemError, match=f"{orlop.name}-other does not belong at"):
            operator.redraft_restore(sheet, {})


def test_a_load_that_fails_is_said_with_its_reason_and_nothing_was_loaded(orlop: Orlop) -> None:
    backup = orlop.take()
    orlop.machine.stop()
    new = orlop.fresh()
    sheet = orlop.draft(backup, new)
    (new.folder / "refuses").write_text(f"by {PHRASE} the disk of this deployment is too small")
    run = orlop.service.ended(orlop.client.start_restore(sheet).id)
    assert run.state == "failed"
    assert run.reason == (
        "/setup/load says failed: by ‹passphrase› the disk of this deployment is too small."
    )
    about: Any = new.request("GET", "/about")
    assert about["state"] == "fresh"
    assert orlop.client.sheet(sheet).sheet.state == "failed"


def test_the_drop_must_be_on(orlop: Orlop) -> None:
    backup, there = orlop.take(), orlop.client.drop().sftp
    orlop.client.change_drop(DropWanted(sftp=""))
    try:
        sheet = orlop.client.sheet(orlop.draft(backup, orlop.fresh())).sheet
        repair = {"purpose": "repair", "login": None, "parts": ["switches"]}
        one = orlop.draft(backup, orlop.machine, **repair, at=None, key=None)
        assert orlop.client.sheet(one).sheet.blockers() == [], "nothing of it is offered"
    finally:
        switched_on(orlop.service, orlop.client, there)
    [said] = [one for one in sheet.findings if one.code == "drop-off"]
    assert said.severity == "blocker"
    assert said.remedy == "Switch it on: fennox drop set --sftp HOST:PORT"


def test_a_login_that_is_a_secret_of_a_system_is_not_removed(orlop: Orlop) -> None:
    with pytest.raises(ProblemError, match=f"{orlop.name}-phrase is used by {orlop.name}"):
        orlop.client.remove_login(f"{orlop.name}-phrase")
    change = SystemChange(settings={"passphrase": "nobody"})
    with pytest.raises(ProblemError, match="nobody does not exist"):
        orlop.client.change_system(orlop.name, change)
