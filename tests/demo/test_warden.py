"""The simulated access-policy server keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

import os
import urllib.error
from collections.abc import Callable

import pytest

from saltmere.warden.machine import PHRASE, WardenServer
from tests.demo.sftp_place import PLACE_ACCOUNT, PLACE_SECRET, SftpPlace

Installs = Callable[..., WardenServer]


def knows(server: WardenServer, place: SftpPlace) -> WardenServer:
    told = place.told
    server.push_to(told["host"], told["port"], PLACE_ACCOUNT, PLACE_SECRET, told["key"])
    return server


@pytest.fixture
def warden(install_appliance: Installs, sftp: SftpPlace) -> WardenServer:
    made = install_appliance(WardenServer)
    made.set_up()
    return knows(made, sftp)


def refused(server: WardenServer, *words: str, feed: str = "") -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words, feed=feed)
    return str(error.value).split("warden: ")[1].strip()


def backed_up(server: WardenServer, *more: str) -> str:
    server.do("backup", "drop", *more)
    ended = server.ended()
    assert ended.startswith("done "), ended
    return ended.removeprefix("done ")


def test_a_new_one_has_defaults_and_knows_no_place(install_appliance: Installs) -> None:
    new = install_appliance(WardenServer)
    told = new.state()
    assert [one["name"] for one in told["policies"]] == ["deny-all"]
    assert [one["name"] for one in told["people"]] == ["admin"]
    assert new.do("run") == "none\n"
    assert refused(new, "backup", "drop") == "there is no passphrase: warden passphrase"
    new.do("passphrase", feed=f"{PHRASE}\n")
    assert refused(new, "restore", "drop", "x") == "there is no place drop: warden place"


@pytest.mark.parametrize("phrase", ["short-1", "no digit here", "nodigitatall", "a space 1 in it"])
def test_a_passphrase_keeps_rules(install_appliance: Installs, phrase: str) -> None:
    new = install_appliance(WardenServer)
    assert refused(new, "passphrase", feed=f"{phrase}\n") == (
        "a passphrase has ten characters or more, one a digit, and no space"
    )


def test_a_backup_goes_back_by_a_place_that_was_made_anew(
    warden: WardenServer, install_appliance: Installs, sftp: SftpPlace
) -> None:
    name = backed_up(warden, "--system")
    assert sorted(sftp.files()) == sorted([name, name.replace(".wpk", ".sum")])
    assert b"made-up" not in sftp.files()[name]
    new = knows(install_appliance(WardenServer), sftp)
    new.do("passphrase", feed=f"{PHRASE}\n")
    assert name in new.do("contents", "drop")
    new.do("restore", "drop", name, "--system")
    assert new.ended() == f"done {name}"
    assert new.state() == warden.state()


def test_without_its_operating_system_that_stays_as_it_is(
    warden: WardenServer, install_appliance: Installs, sftp: SftpPlace
) -> None:
    name = backed_up(warden, "--system")
    new = knows(install_appliance(WardenServer), sftp)
    new.do("passphrase", feed=f"{PHRASE}\n")
    new.do("restore", "drop", name)
    assert new.ended() == f"done {name}"
    assert {"name": "resolver none"} in new.state()["system"]
    assert new.state()["policies"] == warden.state()["policies"]


def test_another_passphrase_changes_nothing(
    warden: WardenServer, install_appliance: Installs, sftp: SftpPlace
) -> None:
    name = backed_up(warden)
    new = knows(install_appliance(WardenServer), sftp)
    new.do("passphrase", feed="another-herring-8\n")
    before = new.state()
    new.do("restore", "drop", name)
    assert new.ended() == "failed the passphrase is not that of this backup"
    assert new.state() == before


def test_a_second_run_is_refused_while_one_is_under_way(warden: WardenServer) -> None:
    warden.write("/var/lib/warden/run.json", '{"state": "running", "by": 1}')  # 1 always runs
    assert refused(warden, "backup", "drop") == "a run is under way"
    assert warden.do("run") == "running\n"


def test_another_host_key_is_not_sent_to(warden: WardenServer, sftp: SftpPlace) -> None:
    told = sftp.told
    warden.push_to(told["host"], told["port"], PLACE_ACCOUNT, PLACE_SECRET, "SHA256:" + "A" * 43)
    warden.do("backup", "drop")
    assert warden.ended().startswith("failed ")
    assert sftp.files() == {}


def test_reports_are_whole_once_a_week_and_go_as_weeks(warden: WardenServer) -> None:
    folder = warden.folder / "var/lib/warden/reports"
    warden.do("report")
    [whole] = [path.name for path in folder.iterdir()]
    assert whole.startswith("whole-")
    for name in ("whole-2026-W01.csv", "changes-2026-01-01.csv", "changes-2025-12-30.csv"):
        (folder / name).write_text("old\n")
        os.utime(folder / name, (1, 1))
    warden.do("report")
    assert not any("2026-W01" in path.name or "01-01" in path.name for path in folder.iterdir())
    assert not (folder / "changes-2025-12-30.csv").exists(), "of the same week"


def test_what_it_does_not_know_is_refused_with_a_sentence(warden: WardenServer) -> None:
    with pytest.raises(RuntimeError, match="invalid choice: 'place'"):
        warden.do("remove", "place", "drop")


def test_over_https_it_is_worked_with_and_does_not_go_back(warden: WardenServer) -> None:
    assert warden.request("GET", "/list") == warden.told("list")
    assert warden.request("GET", "/about") == warden.told("about")
    warden.request("PUT", "/policies/night%20watch", {"rule": "the watch enters at night"})
    assert "night watch" in {one["name"] for one in warden.told("list")["policies"]}
    warden.request("POST", "/backups", {"place": "drop", "system": "no"})
    assert warden.ended().startswith("done warden-")
    assert warden.request("GET", "/run")["state"] == "done"
    for method, path, code in (
        ("POST", "/restores", 404),
        ("DELETE", "/policies/none", 409),
        ("PUT", "/policies/x", 422),
    ):
        with pytest.raises(urllib.error.HTTPError) as error:
            warden.request(method, path, {} if method == "PUT" else None)
        assert error.value.code == code
        error.value.close()


def test_its_administrator_stays_what_he_is(warden: WardenServer) -> None:
    warden.set_administrator("keeper", "made-up-keeper")
    backup = backed_up(warden)
    warden.do("administrator", "other", feed="made-up-other\n")
    with pytest.raises(urllib.error.HTTPError, match="401"):
        warden.request("GET", "/about")
    warden.do("restore", "drop", backup)
    assert warden.ended().startswith("done")
    warden.account, warden.password = "other", "made-up-other"
    assert warden.request("GET", "/about")["product"] == "warden"
