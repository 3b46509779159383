"""An access-policy server: it pushes, and goes back by its own command line, under a passphrase
that keeps its rules.
"""

from __future__ import annotations

import pytest

from fennox.client.api import ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import SystemChange
from fennox.wire.stores import LoginChange, NewLogin
from saltmere.warden.machine import PHRASE, WardenServer
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Warden = Protected[WardenServer]


def phrase_login(warden: Warden) -> str:
    return warden.client.system(warden.name).settings["passphrase"]


REPAIR = {"purpose": "repair", "login": None, "at": None, "key": None, "beside": None}


def test_a_comparison_says_exactly_what_changed(warden: Warden) -> None:
    first = warden.take()
    assert warden.client.backup(first).findings == []
    held = {one.path for one in warden.client.documents(first)}
    assert {"passphrase", "about.json", "list.json"} < held
    assert warden.changed(first, warden.take()) == [], "only that it was encrypted anew"
    warden.machine.request("PUT", "/policies/pilots", {"rule": "pilots enter the bridge"})
    assert warden.changed(first) == ["list.json"]


def test_lost_it_comes_back_on_a_new_one_that_is_told_its_place_anew(warden: Warden) -> None:
    backup, before = warden.take(), warden.machine.state()
    warden.machine.lose()
    new = warden.fresh()
    assert new.state()["places"] == []
    sheet = warden.draft(backup, new)
    shown = warden.client.sheet(sheet).sheet
    [loads] = [step for step in shown.steps if step.do == "offer"]
    assert (loads.stoppable, loads.repeat) == (False, False)
    assert PHRASE not in shown.model_dump_json()
    warden.restore(sheet)
    assert new.state() == before, "with the settings of its operating system"
    assert new.do("run").startswith("done warden-")
    assert "made-up" not in warden.service.log


def test_a_new_one_needs_its_own_login_over_https_and_is_told_so(warden: Warden) -> None:
    wanted = warden.wanted(warden.take(), warden.fresh(), beside=None)
    run = warden.service.ended(warden.client.draft(wanted).id)
    assert run.state == "failed"
    assert "refuses the login" in run.reason
    assert "give it with --beside-login" in run.remedy


def test_without_its_operating_system_the_targets_stays(warden: Warden) -> None:
    settings = warden.client.system(warden.name).settings
    warden.client.change_system(warden.name, SystemChange(settings={**settings, "system": "no"}))
    backup, before = warden.take(), warden.machine.state()
    new = warden.fresh()
    warden.restore(warden.draft(backup, new))
    assert {"name": "resolver none"} in new.state()["system"]
    assert {**new.state(), "system": []} == {**before, "system": []}


def test_the_backup_keeps_the_passphrase_of_its_day(warden: Warden) -> None:
    backup, before = warden.take(), warden.machine.state()
    change = LoginChange.model_validate({"password": "other-herring-8"})
    warden.client.change_login(phrase_login(warden), change)
    warden.machine.do("passphrase", feed="other-herring-8\n")
    new = warden.fresh()
    warden.restore(warden.draft(backup, new))
    assert new.state() == before


def test_a_passphrase_that_it_would_refuse_is_refused_beforehand(warden: Warden) -> None:
    rule = "ten characters or more, one of them a digit, and no space"
    for number, phrase in enumerate(("short-1", "nodigitatall", "a space 1 in it")):
        login = NewLogin(name=f"{warden.name}-{number}", account="warden", password=phrase)
        warden.client.add_login(login)
        change = SystemChange(settings={"passphrase": login.name})
        with pytest.raises(ProblemError, match=rule):
            warden.client.change_system(warden.name, change)
    name, shorter = phrase_login(warden), LoginChange.model_validate({"password": "short-1"})
    with pytest.raises(ProblemError, match=rule) as error:
        warden.client.change_login(name, shorter)
    assert "short-1" not in str(error.value)
    assert warden.client.backup(warden.take()).findings == [], "nothing was changed"


def test_a_second_run_is_refused_and_the_take_says_so(warden: Warden) -> None:
    warden.machine.write("/var/lib/warden/run.json", '{"state": "running", "by": 1}')
    run = warden.service.ended(warden.client.take(NewTake(system=warden.name)).id)
    assert run.state == "failed"
    assert "a run is under way" in run.reason


def test_a_run_that_fails_is_said_with_its_reason(warden: Warden) -> None:
    told = warden.client.drop()
    host, _, port = str(told.sftp).rpartition(":")
    warden.machine.push_to(host, int(port), "nobody", "made-up-wrong", "SHA256:" + "A" * 43)
    run = warden.service.ended(warden.client.take(NewTake(system=warden.name)).id)
    assert run.state == "failed"
    assert "/run says failed: curl:" in run.reason
    assert "made-up-wrong" not in run.reason


def test_reports_come_back_whole(warden: Warden) -> None:
    warden.machine.do("report")
    parts = ["backup", "passphrase", "reports", "state"]
    taken = warden.client.take(NewTake(system=warden.name, parts=parts))
    run = warden.service.ended(taken.id)
    assert run.state == "done", run.reason
    backup = str(came_to(run, "backup"))
    folder = warden.machine.folder / "var/lib/warden/reports"
    [report] = folder.iterdir()
    content = report.read_bytes()
    report.unlink()
    warden.restore(warden.draft(backup, warden.machine, parts=["reports"], **REPAIR))
    assert report.read_bytes() == content
