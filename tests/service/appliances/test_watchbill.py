"""A monitoring server that moves between families of operating systems: it must be repaired."""

from __future__ import annotations

import pytest

from fennox.wire.backups import NewTake
from saltmere.watchbill.machine import WatchbillServer
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Watchbill = Protected[WatchbillServer]


def saved(server: WatchbillServer) -> list[str]:
    folder = server.folder / f"{server.home.lstrip('/')}/saved"
    return [path.name for path in folder.iterdir()]


def test_a_comparison_says_exactly_what_changed(watchbill: Watchbill) -> None:
    first = watchbill.take()
    assert watchbill.client.backup(first).findings == []
    assert watchbill.changed(first) == []
    watchbill.machine.do("host", "pier-7", "10.8.0.7")
    assert watchbill.changed(first) == ["list.json"]


@pytest.mark.parametrize("family", ["shoal", "reef"])
def test_lost_it_comes_back_on_either_family(watchbill: Watchbill, family: str) -> None:
    backup, before = watchbill.take(), watchbill.machine.state()
    watchbill.machine.lose()
    new = watchbill.fresh(family=family)
    sheet = watchbill.draft(backup, new)
    watchbill.restore(sheet)
    assert new.state() == before, "the well-known login is gone, and every check is made"
    watchbill.client.accept_restore(sheet)
    assert watchbill.client.system(watchbill.name).address == new.address


def test_no_archive_is_left_behind(watchbill: Watchbill) -> None:
    own = watchbill.machine.do("save").strip()
    for _ in range(3):
        watchbill.take()
    assert [f"{watchbill.machine.home}/saved/{name}" for name in saved(watchbill.machine)] == [own]


def test_with_twenty_archives_of_its_own_a_take_says_so(watchbill: Watchbill) -> None:
    for _ in range(20):
        watchbill.machine.do("save")
    run = watchbill.service.ended(watchbill.client.take(NewTake(system=watchbill.name)).id)
    assert run.state == "failed"
    assert "there are 20 archives" in run.reason


def test_links_that_are_not_repaired_are_not_proved(watchbill: Watchbill) -> None:
    backup = watchbill.take()
    new = watchbill.fresh(family="reef")
    new.write(f"{new.home}/repair-fails", "")
    sheet = watchbill.draft(backup, new)
    run = watchbill.service.ended(watchbill.client.start_restore(sheet).id)
    assert not came_to(run, "proved")
    shown = watchbill.client.sheet(sheet).sheet
    [check] = [step for step in shown.steps if step.do == "check"]
    assert "19 links lead nowhere" in check.detail
    assert shown.proof is not None
    lacking = {one.name: one.missing for one in shown.proof.lists}
    assert "pier-1/tide" in lacking["links that lead somewhere"]


def test_another_version_is_refused_before_anything_begins(watchbill: Watchbill) -> None:
    backup = watchbill.take()
    sheet = watchbill.client.sheet(watchbill.draft(backup, watchbill.fresh(version="4.9.0"))).sheet
    texts = [one.text for one in sheet.findings if one.severity == "blocker"]
    assert any("4.8.2" in text and "4.9.0" in text for text in texts), texts


def test_beyond_the_last_version_that_saves_a_take_says_so(watchbill: Watchbill) -> None:
    watchbill.machine.write("/etc/watchbill-version", "5.0.0\n")
    run = watchbill.service.ended(watchbill.client.take(NewTake(system=watchbill.name)).id)
    assert run.state == "failed"
    assert "version 5.0.0 has neither save nor load" in run.reason
