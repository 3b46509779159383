"""The simulated collector controller keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from saltmere.gullery.machine import GulleryServer
from saltmere.linux import LinuxServer

Installs = Callable[..., GulleryServer]
Install = Callable[[str], LinuxServer]


@pytest.fixture
def gullery(install_appliance: Installs) -> GulleryServer:
    made = install_appliance(GulleryServer)
    made.set_up()
    return made


def refused(server: GulleryServer, *words: str) -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words)
    return str(error.value).split("gullery: ")[1].strip()


def moved(old: GulleryServer, new: GulleryServer, *, cut: int = 0) -> None:
    """The bundle of the old one is given to the new one as its administrator would."""
    old.run("sh", "-c", "gullery bundle > /tmp/bundle")
    data = (old.folder / "tmp/bundle").read_bytes()
    (new.folder / "tmp/given").write_bytes(data[: len(data) - cut])
    new.run("sh", "-c", "gullery take-over < /tmp/given")


def test_a_change_is_a_commit_with_who_and_why(gullery: GulleryServer) -> None:
    gullery.do("set", "ice", "every 600 s", "night-watch", "winter is coming")
    said = gullery.run("git", "-C", "/srv/gullery", "log", "-1", "--format=%an %s")
    assert said == "night-watch winter is coming\n"
    assert "ice" in str(gullery.told("list")["sources"])
    gullery.do("drop", "ice", "night-watch", "it melted")
    assert "ice" not in str(gullery.told("list")["sources"])


def test_keys_are_in_no_commit(gullery: GulleryServer) -> None:
    assert gullery.told("list")["changed"] == []
    tracked = gullery.run("git", "-C", "/srv/gullery", "ls-files")
    assert "keys" not in tracked
    (gullery.folder / "srv/gullery/keys/tide").unlink()
    assert refused(gullery, "test") == "tide: without a key"


def test_commits_are_sent_when_somebody_says_so(gullery: GulleryServer, install: Install) -> None:
    assert gullery.told("list")["sent"] == "nowhere"
    other = install("standby")
    gullery.send_to(other)
    told = gullery.told("list")
    assert told["sent"] == told["commit"]
    gullery.do("set", "ice", "every 600 s", "night-watch", "winter is coming")
    told = gullery.told("list")
    assert told["sent"] != told["commit"]
    assert [one.split(" ", 1)[1] for one in told["unsent"]] == ["night-watch: winter is coming"]


def test_by_its_schedule_it_sends_at_the_first_command_after_that(
    gullery: GulleryServer, install: Install
) -> None:
    gullery.send_to(install("standby"))
    gullery.do("sends-every", "24")
    gullery.do("set", "ice", "every 600 s", "night-watch", "winter is coming")
    told = gullery.told("list")
    assert (len(told["unsent"]), told["overdue"], told["last"]) == (1, [], "sent")
    gullery.write("/var/lib/gullery/tried", "0 sent\n")
    told = gullery.told("list")
    assert (told["unsent"], told["sent"]) == ([], told["commit"])
    gullery.write("/etc/gullery/known_hosts", "")
    gullery.write("/var/lib/gullery/tried", "0 sent\n")
    assert gullery.told("list")["last"] == "failed"
    assert refused(gullery, "sends-every", "daily") == "daily is no number of hours"


def test_another_host_key_is_never_accepted_by_itself(
    gullery: GulleryServer, install: Install
) -> None:
    other = install("standby")
    gullery.send_to(other)
    gullery.write("/etc/gullery/known_hosts", "")
    assert "Host key verification failed" in refused(gullery, "send")
    assert gullery.told("list")["sent"] == "unknown"


def test_a_bundle_makes_a_new_one_what_the_old_one_was(
    gullery: GulleryServer, install_appliance: Installs
) -> None:
    new = install_appliance(GulleryServer)
    moved(gullery, new)
    before, after = gullery.told("list"), new.told("list")
    assert after["commit"] == before["commit"]
    assert after["sources"] == before["sources"]
    assert after["keys"] == []
    log = ("git", "-C", "/srv/gullery", "log", "--format=%H %an %s")
    assert new.run(*log) == gullery.run(*log)


def test_half_a_bundle_changes_nothing(gullery: GulleryServer, install_appliance: Installs) -> None:
    new = install_appliance(GulleryServer)
    before = new.told("list")
    with pytest.raises(RuntimeError, match="gullery: "):
        moved(gullery, new, cut=200)
    assert new.told("list") == before


def test_changes_that_no_commit_has_are_not_overwritten(gullery: GulleryServer) -> None:
    gullery.write("/srv/gullery/sources/tide", "by hand\n")
    with pytest.raises(RuntimeError, match="no commit has these changes: sources/tide"):
        moved(gullery, gullery)
    assert gullery.read("/srv/gullery/sources/tide") == "by hand\n"
