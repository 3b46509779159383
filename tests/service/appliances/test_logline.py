"""A log server that is worked with over HTTPS, and whose files are reached by SSH beside that."""

from __future__ import annotations

import pytest

from fennox.client.api import ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import SystemChange
from fennox.wire.stores import NewLogin
from saltmere.linux import new_key_pair
from saltmere.logline.machine import ADDON, LoglineMachine
from tests.engine.keeper import shipped_text
from tests.service.appliances.conftest import Protected

Logline = Protected[LoglineMachine]


def with_addon(new: LoglineMachine) -> LoglineMachine:
    new.request("PUT", f"/addons/{ADDON}")
    return new


def test_a_comparison_says_exactly_what_changed(logline: Logline) -> None:
    first = logline.take()
    assert logline.client.backup(first).findings == []
    assert logline.changed(first) == []
    logline.machine.server.write("/srv/lookups/ports.csv", "port,name\n1,Saltmere Quay\n")
    assert logline.changed(first) == ["/srv/lookups/ports.csv"]


def test_lost_it_comes_back_with_the_files_that_no_bundle_holds(logline: Logline) -> None:
    backup, names = logline.take(), logline.machine.names()
    files = logline.machine.files()
    new = with_addon(logline.fresh())
    logline.machine.lose()
    logline.restore(logline.draft(backup, new))
    assert new.files() == files
    assert new.names() == names, "each once, also those that a new one has by itself"


def test_a_second_restore_doubles_nothing(logline: Logline) -> None:
    backup, names = logline.take(), logline.machine.names()
    new = with_addon(logline.fresh())
    for _ in range(2):
        logline.restore(logline.draft(backup, new, purpose="practise"))
    assert new.names() == names


def test_files_are_followed_wherever_a_look_up_points(logline: Logline) -> None:
    logline.machine.server.write("/opt/berths/berths.csv", "berth,depth\n1,6\n")
    where = {"file": "/opt/berths/berths.csv"}
    logline.machine.request("PUT", "/objects/lookup%20berths", where)
    held = {one.path for one in logline.client.documents(logline.take())}
    assert "/opt/berths/berths.csv" in held
    assert "/etc/passwd" not in held, "nothing that no look-up points to"


def test_a_path_with_dots_is_not_followed(logline: Logline) -> None:
    where = {"file": "/srv/lookups/../../etc/shadow"}
    logline.machine.request("PUT", "/objects/lookup%20berths", where)
    held = [one.path for one in logline.client.documents(logline.take())]
    assert not [path for path in held if "shadow" in path]


def test_a_file_that_is_not_there_is_said(logline: Logline) -> None:
    (logline.machine.server.folder / "srv/lookups/ports.csv").unlink()
    found = {one.code: one.text for one in logline.client.backup(logline.take()).findings}
    assert "lookup ports: /srv/lookups/ports.csv is missing" in found["stands-twice"]


def test_objects_that_stand_twice_are_said(logline: Logline) -> None:
    machine = logline.machine
    made = machine.request("POST", "/bundles", {"objects": ["lookup ports"]})
    assert isinstance(made, dict)
    machine.request("POST", "/load", machine.request("GET", f"/bundles/{made['bundle']}"))
    found = {one.code: one.text for one in logline.client.backup(logline.take()).findings}
    assert "lookup ports stands 2 times" in found["stands-twice"]


def test_without_the_add_on_nothing_is_begun(logline: Logline) -> None:
    backup, new = logline.take(), logline.fresh()
    shown = logline.client.sheet(logline.draft(backup, new)).sheet
    blockers = [one.text for one in shown.findings if one.severity == "blocker"]
    assert any(ADDON in text for text in blockers), blockers
    assert new.names() == ["dashboard Overview", "stream All messages"]


def refused_take(logline: Logline) -> str:
    run = logline.service.ended(logline.client.take(NewTake(system=logline.name)).id)
    assert run.state == "failed"
    return str(run.reason)


def test_a_shell_with_another_key_than_the_machine_tells_gets_no_login(
    logline: Logline, key_pair: tuple[str, str]
) -> None:
    logline.machine.server.write("/etc/ssh/ssh_host_ed25519_key.pub", key_pair[1])
    assert "was accepted for it" in refused_take(logline)


def test_a_target_whose_shell_is_closed_is_drafted_all_the_same(logline: Logline) -> None:
    backup, new = logline.take(), with_addon(logline.fresh())
    new.server.stop()
    shown = logline.client.sheet(logline.draft(backup, new)).sheet
    said = [one.text for one in shown.findings]
    assert any("/srv" in text or "cannot be reached" in text for text in said), said


def test_a_system_without_the_second_login_says_what_to_do(logline: Logline) -> None:
    logline.client.change_system(logline.name, SystemChange(settings={}))
    assert "names no login for Login of its SSH" in refused_take(logline)
    with pytest.raises(ProblemError) as error:
        logline.client.change_system(
            logline.name, SystemChange(settings={"shell-login": "nobody-at-all"})
        )
    assert "nobody-at-all does not exist" in str(error.value)


def test_a_new_machine_has_another_login_for_its_shell(
    logline: Logline, key_pair: tuple[str, str]
) -> None:
    client, name = logline.client, logline.name
    private, public = new_key_pair("installer")
    client.add_login(NewLogin(name=f"{name}-installer", account="root", private_key=private))
    backup, new = logline.take(), with_addon(logline.fresh())
    new.server.write("/root/.ssh/authorized_keys", public)
    refused = client.sheet(logline.draft(backup, new)).sheet
    assert any("refuses the account root" in one.text for one in refused.findings)
    sheet = logline.draft(backup, new, beside=f"{name}-installer")
    said = [one.text for one in client.sheet(sheet).sheet.findings]
    assert not any("refuses the account root" in text for text in said), said
    logline.restore(sheet)
    client.accept_restore(sheet)
    assert client.system(name).settings["shell-login"] == f"{name}-installer"
    logline.take()


def test_a_kind_is_tried_by_both_ways(logline: Logline, key_pair: tuple[str, str]) -> None:
    service, machine = logline.service, logline.machine
    service.file("keeper.txt", machine.password)
    service.file("root-key", key_pair[0])
    (service.folder / "logline.toml").write_text(shipped_text("logline-server"))
    words = ["kind", "try", "logline.toml", "--on", machine.address, "--account", "keeper"]
    words += ["--password-file", "keeper.txt", "--accept-key", machine.fingerprint]
    words += ["--setting", f"shell-port={machine.shell_port}"]
    without = service.fennox(*words)
    assert without.returncode != 0
    assert "Give --setting shell-login=ACCOUNT:FILE" in without.stderr
    tried = service.fennox(*words, "--setting", "shell-login=root:root-key", "--documents")
    assert tried.returncode == 0, tried.stderr
    assert "/srv/lookups/ferries.csv" in tried.stdout
