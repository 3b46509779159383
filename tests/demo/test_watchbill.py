"""The simulated server of two families keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from saltmere.watchbill.machine import WatchbillServer

Installs = Callable[..., WatchbillServer]


@pytest.fixture
def watchbill(install_appliance: Installs) -> WatchbillServer:
    made = install_appliance(WatchbillServer)
    made.set_up()
    return made


def refused(server: WatchbillServer, *words: str) -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words)
    return str(error.value).split("watchbill: ")[1].strip()


def moved(old: WatchbillServer, new: WatchbillServer) -> str:
    """The path on the new one of an archive of the old one."""
    data = (old.folder / old.do("save").strip().lstrip("/")).read_bytes()
    (new.folder / "tmp/archive.wbs").write_bytes(data)
    return "/tmp/archive.wbs"


def test_a_new_one_has_default_objects_and_a_default_login(install_appliance: Installs) -> None:
    shoal, reef = (install_appliance(WatchbillServer, family=one) for one in ("shoal", "reef"))
    told = shoal.told("list")
    assert [one["name"] for one in told["hosts"]] == ["this-server"]
    assert [one["name"] for one in told["people"]] == ["watch"]
    assert told["links"] == [{"name": "this-server/alive", "leads": True}]
    assert shoal.told("about")["id"] != reef.told("about")["id"]
    assert (shoal.folder / "var/lib/watchbill/links").exists()
    assert (reef.folder / "opt/watchbill/state/links").exists()


def test_an_archive_brings_everything_to_its_equal(
    watchbill: WatchbillServer, install_appliance: Installs
) -> None:
    new = install_appliance(WatchbillServer)
    new.do("load", moved(watchbill, new))
    assert new.state() == watchbill.state()
    assert new.do("test") == "sound\n"


def test_on_the_other_family_links_lead_nowhere_until_the_repair(
    watchbill: WatchbillServer, install_appliance: Installs
) -> None:
    new = install_appliance(WatchbillServer, family="reef")
    new.do("load", moved(watchbill, new))
    assert refused(new, "test").startswith("19 links lead nowhere: ")
    assert not any(one["leads"] for one in new.told("list")["links"])
    new.do("repair")
    assert new.state() == watchbill.state()


def test_archives_stay_and_twenty_are_the_most(watchbill: WatchbillServer) -> None:
    for _ in range(20):
        watchbill.do("save")
    assert "there are 20 archives" in refused(watchbill, "save")


@pytest.mark.parametrize("version", ["4.8.1", "4.9.0"])
def test_another_version_is_refused(
    watchbill: WatchbillServer, install_appliance: Installs, version: str
) -> None:
    new = install_appliance(WatchbillServer, version=version)
    archive, before = moved(watchbill, new), new.state()
    assert refused(new, "load", archive) == (
        f"this is an archive of version 4.8.2, and here is {version}"
    )
    assert new.state() == before


def test_half_an_archive_is_refused(
    watchbill: WatchbillServer, install_appliance: Installs
) -> None:
    new = install_appliance(WatchbillServer)
    archive, before = moved(watchbill, new), new.state()
    file = new.folder / archive.lstrip("/")
    file.write_bytes(file.read_bytes()[:-200])
    assert refused(new, "load", archive) == f"{archive} is no archive"
    assert new.state() == before


def test_from_version_five_on_there_is_neither_save_nor_load(install_appliance: Installs) -> None:
    new = install_appliance(WatchbillServer, version="5.0.0")
    for words in (["save"], ["load", "/tmp/x"]):
        assert refused(new, *words) == (
            "version 5.0.0 has neither save nor load: they ended with 4.9"
        )
