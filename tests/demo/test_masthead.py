"""The simulated monitoring server keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from saltmere.masthead.machine import MastheadServer

Installs = Callable[..., MastheadServer]
ARCHIVES = "/var/lib/masthead/archives"
LOADED = "/var/lib/masthead/load/objects.mha"


@pytest.fixture
def masthead(install_appliance: Installs) -> MastheadServer:
    return install_appliance(MastheadServer)


def refused(server: MastheadServer, *words: str) -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words)
    return str(error.value).split("masthead: ")[1].strip()


def archive(server: MastheadServer) -> bytes:
    assert server.do("archive") == "archived\n"
    return sorted((server.folder / ARCHIVES[1:]).iterdir())[-1].read_bytes()


def stop(server: MastheadServer) -> None:
    server.do("stop", "face")
    server.do("stop", "core")


def test_a_new_one_has_default_objects_a_default_login_and_no_licence(
    masthead: MastheadServer,
) -> None:
    told = masthead.told("list")
    assert told["hosts"] == [{"name": "localhost", "address": "127.0.0.1"}]
    assert told["checks"] == [{"name": "localhost/alive", "plugin": "alive", "idle": ""}]
    assert told["people"] == [{"name": "admin"}]
    assert masthead.told("about")["covers"] == 25
    assert masthead.do("test") == "sound\n"


def test_its_services_have_an_order(masthead: MastheadServer) -> None:
    assert refused(masthead, "stop", "core") == "face runs; stop it first"
    stop(masthead)
    assert refused(masthead, "start", "face") == "core does not run; start it first"
    assert refused(masthead, "test") == "core does not run; face does not run"
    masthead.do("start", "core")
    masthead.do("start", "face")
    assert masthead.do("test") == "sound\n"


def test_it_keeps_so_many_archives_and_one_of_a_day(masthead: MastheadServer) -> None:
    folder = masthead.folder / ARCHIVES[1:]
    for day in range(1, 10):
        (folder / f"masthead-2026-01-0{day}.mha").write_bytes(b"older")
    archive(masthead)
    archive(masthead)
    names = sorted(path.name for path in folder.iterdir())
    assert names[:6] == [f"masthead-2026-01-0{day}.mha" for day in range(4, 10)]
    assert len(names) == 7


def test_loading_adds_and_leaves_what_was_there(
    masthead: MastheadServer, install_appliance: Installs
) -> None:
    masthead.set_up("northness-watch", licence="MAST-40-QUAY")
    data = archive(masthead)
    new = install_appliance(MastheadServer)
    (new.folder / LOADED[1:]).write_bytes(data)
    assert refused(new, "load") == "core or face runs; stop them first"
    stop(new)
    new.do("load")
    told = new.told("list")
    assert [one["name"] for one in told["people"]] == ["admin", "m.quay", "watch"]
    assert len(told["hosts"]) == 9
    idle = {one["idle"] for one in told["checks"] if one["idle"]}
    assert idle == {
        "there is no plugin /opt/masthead/plugins/" + name for name in ("tide", "berth")
    }


def test_checks_beyond_the_licence_are_idle(masthead: MastheadServer) -> None:
    masthead.write("/etc/masthead/licence.key", "MAST-2-QUAY\n")
    for number in range(3):
        masthead.do("set", "checks", f"localhost/more-{number}", "alive")
    assert [one["idle"] for one in masthead.told("list")["checks"]] == [
        "",
        "",
        "the licence does not cover it",
        "the licence does not cover it",
    ]
    (masthead.folder / "etc/masthead/licence.key").rename(
        masthead.folder / "etc/masthead/licence.key.old"
    )
    assert masthead.told("about")["covers"] == 25, "a file of another name is none"


@pytest.mark.parametrize(
    ("name", "spoil", "why"),
    [
        ("objects.mha", lambda data: b"rubbish", f"{LOADED} is no archive"),
        ("objects.mha", lambda data: data[: len(data) // 2], f"{LOADED} is no archive"),
        ("masthead-2026-01-01.mha", lambda data: data, f"there is no {LOADED}"),
    ],
)
def test_what_is_not_loaded_changes_nothing(
    masthead: MastheadServer, name: str, spoil: Callable[[bytes], bytes], why: str
) -> None:
    data = archive(masthead)
    stop(masthead)
    Path(masthead.folder / LOADED[1:]).with_name(name).write_bytes(spoil(data))
    before = masthead.state()
    assert refused(masthead, "load") == why
    assert masthead.state() == before


def test_a_stuck_archive_says_that_it_is_made(masthead: MastheadServer) -> None:
    first = archive(masthead)
    masthead.write("/var/lib/masthead/archives-stuck", "")
    masthead.do("set", "hosts", "ferry-1", "10.9.0.1")
    assert archive(masthead) == first
