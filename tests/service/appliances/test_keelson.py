"""A virtualization host: loaded from its remote shell alone, while quiet, and by its own build."""

from __future__ import annotations

from typing import Any

from fennox.wire.backups import NewTake
from saltmere.keelson.machine import KeelsonHost
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Keelson = Protected[KeelsonHost]


def about(host: KeelsonHost) -> Any:
    return host.request("GET", "/host")


def entered(host: KeelsonHost, there: KeelsonHost | None = None) -> KeelsonHost:
    host.account, host.password = "keeper", "made-up-keeper"
    if there is not None:
        host.host, host.port = there.host, there.port
    host.wait()
    return host


def off(settings: Any) -> Any:
    """The same settings with every machine off."""
    machines = [{**one, "on": False} for one in settings["machines"]]
    return {**settings, "machines": machines}


def shell_of(host: KeelsonHost) -> dict[str, Any]:
    return {"entrance": {"at": f"{host.host}:{host.shell_port}"}}


def test_a_comparison_says_exactly_what_changed(keelson: Keelson) -> None:
    first = keelson.take()
    assert keelson.changed(first) == []
    keelson.machine.request("PUT", "/rules/watch", {"opens": "9100 from 10.20.4.0/24"})
    assert keelson.changed(first) == ["settings.json"]


def test_half_a_bundle_is_not_taken_for_one(keelson: Keelson) -> None:
    (keelson.machine.folder / "halves").touch()
    run = keelson.service.ended(keelson.client.take(NewTake(system=keelson.name)).id)
    assert run.state == "failed"
    assert "is not what the machine says it is: its sha256 is another one." in run.reason
    assert keelson.client.backups(system=keelson.name) == []


def test_lost_it_comes_back_on_a_new_installation_and_takes_over(keelson: Keelson) -> None:
    backup, before = keelson.take(), keelson.machine.settings()
    keelson.machine.lose()
    new = keelson.fresh(partition=64)
    known = about(new)
    sheet = keelson.draft(backup, new, place={"network-address": "backup"}, **shell_of(new))
    shown = keelson.client.sheet(sheet).sheet
    assert shown.entrance is not None
    assert shown.entrance.key == known["shell_key"], "told over the verified interface"
    said = {one.code: one.text for one in shown.findings}
    assert "system partition" in str(said), said
    keelson.restore(sheet)
    host = entered(new, keelson.machine)
    assert host.settings() == off(before)
    told = about(host)
    assert (told["quiet"], told["shell"]) == (False, False), "nothing stays open"
    assert told["licence"] == {"key": "KEEL-FULL-1", "sort": "full"}
    assert (told["id"], told["partition"]) == (known["id"], 64)
    keelson.client.accept_restore(sheet)
    assert keelson.client.system(keelson.name).address == host.address


def test_a_new_host_from_a_baseline_has_its_own_name_address_and_licence(keelson: Keelson) -> None:
    backup = keelson.take()
    new = keelson.fresh()
    sheet = keelson.draft(
        backup, new, purpose="seed", new_name=f"{keelson.name}-b", **shell_of(new)
    )
    keelson.restore(sheet)
    told = about(entered(new))
    assert told["name"] == f"{keelson.name}-b"
    assert told["licence"]["sort"] == "trial", "the key counts for one host"
    assert about(keelson.machine)["licence"]["key"] == "KEEL-FULL-1"
    keelson.client.accept_restore(sheet)
    assert keelson.client.system(f"{keelson.name}-b").address == new.address


def test_another_build_is_refused_before_anything_begins(keelson: Keelson) -> None:
    backup = keelson.take()
    new = keelson.fresh()
    new.stop()
    new.build = "5.1-2301"
    new.start()
    sheet = keelson.client.sheet(keelson.draft(backup, new, **shell_of(new))).sheet
    texts = [one.text for one in sheet.findings if one.severity == "blocker"]
    assert any("build" in text and "5.1-2301" in text for text in texts), texts


def test_a_repair_waits_until_the_machines_are_off(keelson: Keelson) -> None:
    backup, before = keelson.take(), keelson.machine.settings()
    host = keelson.machine
    host.request("DELETE", "/stores/vault")
    repair = {"purpose": "repair", "login": None, "at": None, "key": None, **shell_of(host)}
    sheet = keelson.draft(backup, host, **repair)
    run = keelson.service.ended(keelson.client.start_restore(sheet).id)
    assert run.state == "waiting"
    gate = keelson.client.sheet(sheet).sheet.open_gate()
    assert gate is not None
    assert "Switch off every machine" in gate.question
    waits = keelson.service.ended(keelson.client.answer(sheet, gate.number, "done").id)
    assert waits.state == "waiting", "they run, whatever was answered"
    for name in ("tickets", "timetable", "berths"):
        host.request("PUT", f"/machines/{name}/power", {"on": False})
    gate = keelson.client.sheet(sheet).sheet.open_gate()
    assert gate is not None
    done = keelson.service.ended(keelson.client.answer(sheet, gate.number, "done").id)
    assert done.state == "done", done.reason
    assert came_to(done, "proved")
    assert host.settings() == off(before)
    assert host.request("GET", "/health") == {"health": "ok"}, "the key of the store came back"


def test_given_up_it_is_neither_quiet_nor_open(keelson: Keelson) -> None:
    backup = keelson.take()
    new = keelson.fresh()
    sheet = keelson.draft(backup, new, **shell_of(new))
    (new.folder / "inbox").chmod(0o500)
    (new.folder / "inbox").rename(new.folder / "elsewhere")
    run = keelson.service.ended(keelson.client.start_restore(sheet).id)
    assert run.state == "failed"
    assert (about(new)["quiet"], about(new)["shell"]) == (True, True)
    in_force = keelson.client.sheet(sheet).sheet.in_force()
    assert [one.meanwhile.says for one in in_force if one.meanwhile is not None] == [
        "The host is in its quiet state: no machine runs on it.",
        "The remote shell of the host is open.",
    ]
    undone = keelson.service.ended(keelson.client.undo_restore(sheet).id)
    assert undone.state == "done", undone.reason
    assert (about(new)["quiet"], about(new)["shell"]) == (False, False)
