"""A monitoring server whose settings lie in several folders, and whose licence counts."""

from __future__ import annotations

from fennox.wire.backups import NewTake
from saltmere.masthead.machine import MastheadServer
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Masthead = Protected[MastheadServer]


def texts(masthead: Masthead, backup: str) -> dict[str, str]:
    return {one.code: one.text for one in masthead.client.backup(backup).findings}


def test_a_comparison_says_exactly_what_changed(masthead: Masthead) -> None:
    first = masthead.take()
    assert texts(masthead, first) == {}
    assert masthead.changed(first) == []
    masthead.machine.do("set", "hosts", "ferry-9", "10.9.0.9")
    assert masthead.changed(first) == ["list.json"]


def test_lost_it_comes_back_on_a_new_installation(masthead: Masthead) -> None:
    backup, before = masthead.take(), masthead.machine.state()
    masthead.machine.lose()
    new = masthead.fresh()
    sheet = masthead.draft(backup, new, place={"listen-address": "backup", "licence": "backup"})
    masthead.restore(sheet)
    after = new.state()
    after["hosts"] = [one for one in after["hosts"] if one["name"] != "localhost"]
    before["hosts"] = [one for one in before["hosts"] if one["name"] != "localhost"]
    assert after == before, "the well-known login is gone, and services and checks run"


def test_archives_of_its_own_are_not_pushed_out_by_takes(masthead: Masthead) -> None:
    folder = masthead.machine.folder / "var/lib/masthead/archives"
    for day in range(1, 7):
        (folder / f"masthead-2026-01-0{day}.mha").write_bytes(b"older")
    masthead.take()
    masthead.take()
    assert len(list(folder.iterdir())) == 7


def test_an_archive_of_another_day_is_not_taken_for_todays(masthead: Masthead) -> None:
    first = masthead.take()
    masthead.machine.write("/var/lib/masthead/archives-stuck", "")
    run = masthead.service.ended(masthead.client.take(NewTake(system=masthead.name)).id)
    assert run.state == "failed"
    assert "says that it has made an archive, but the newest one" in run.reason
    assert [one.id for one in masthead.client.backups(system=masthead.name)] == [first]


def test_a_licence_that_is_too_small_is_not_proved(masthead: Masthead) -> None:
    for number in range(3):
        masthead.machine.do("set", "checks", f"ferry-1/more-{number}", "alive")
    backup = masthead.take()
    new = masthead.fresh()
    sheet = masthead.draft(backup, new, parts=["objects", "plugins", "settings"])
    run = masthead.service.ended(masthead.client.start_restore(sheet).id)
    assert not came_to(run, "proved")
    shown = masthead.client.sheet(sheet).sheet
    [check] = [step for step in shown.steps if step.do == "check"]
    assert "the licence does not cover it" in check.detail


def test_checks_beyond_the_licence_are_named_in_every_backup(masthead: Masthead) -> None:
    masthead.machine.write("/etc/masthead/licence.key", "MAST-24-QUAY\n")
    masthead.machine.do("set", "checks", "ferry-8/zeal", "alive")
    found = masthead.client.backup(masthead.take()).findings
    assert [one.code for one in found] == ["idle-check"]
    assert "ferry-8/zeal" in found[0].text


def test_a_plugin_outside_its_folder_is_in_no_backup(masthead: Masthead) -> None:
    masthead.machine.write("/srv/checks/ice", "#!/bin/sh\n", mode=0o755)
    masthead.machine.do("set", "checks", "ferry-1/ice", "/srv/checks/ice")
    found = texts(masthead, masthead.take())
    assert "/srv/checks/ice" in str(found), found


def test_given_up_its_services_run_again(masthead: Masthead) -> None:
    backup = masthead.take()
    new = masthead.fresh()
    sheet = masthead.draft(backup, new)
    (new.folder / "var/lib/masthead/load").rmdir()
    run = masthead.service.ended(masthead.client.start_restore(sheet).id)
    assert run.state == "failed"
    in_force = masthead.client.sheet(sheet).sheet.in_force()
    assert [one.meanwhile.says for one in in_force if one.meanwhile is not None] == [
        "face is stopped: nobody sees what Masthead watches.",
        "core is stopped: nothing is watched.",
    ]
    undone = masthead.service.ended(masthead.client.undo_restore(sheet).id)
    assert undone.state == "done", undone.reason
    assert [one["runs"] for one in new.told("list")["services"]] == [True, True]
