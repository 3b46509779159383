"""A controller whose settings are a git repository: it comes back commit for commit, with what the
repository excludes.
"""

from __future__ import annotations

from collections.abc import Callable

from saltmere.gullery.machine import GulleryServer
from saltmere.linux import LinuxServer
from tests.service.appliances.conftest import Protected
from tests.service.running import came_to

Gullery = Protected[GulleryServer]
Install = Callable[[str], LinuxServer]
LOG = ("git", "-C", "/srv/gullery", "log", "--format=%H %an %ad %s")


def findings(gullery: Gullery) -> dict[str, str]:
    return {one.code: one.text for one in gullery.client.backup(gullery.take()).findings}


def test_a_comparison_says_exactly_what_changed(gullery: Gullery) -> None:
    first = gullery.take()
    assert gullery.client.backup(first).findings == []
    assert gullery.changed(first) == []
    gullery.machine.do("set", "tide", "every 10 s", "night-watch", "spring tide")
    gullery.machine.do("send")
    assert gullery.changed(first) == ["/srv/gullery/sources/tide", "list.json"]


def test_lost_it_comes_back_commit_for_commit_and_sends_as_before(gullery: Gullery) -> None:
    backup, before, log = gullery.take(), gullery.machine.state(), gullery.machine.run(*LOG)
    gullery.machine.lose()
    new = gullery.fresh()
    gullery.restore(gullery.draft(backup, new))
    assert new.run(*LOG) == log, "every commit, with who, when and why"
    after = new.state()
    assert (after["sent"], before["sent"]) == (before["commit"], before["commit"])
    same = {"sources", "keys", "commit", "changed", "name"}
    assert {name: after[name] for name in same} == {name: before[name] for name in same}
    assert new.read("/etc/gullery/key").startswith("-----BEGIN")


def test_a_copy_for_practice_sends_nothing(gullery: Gullery) -> None:
    gullery.machine.do("sends-every", "24")
    backup, new = gullery.take(), gullery.fresh()
    gullery.restore(gullery.draft(backup, new, purpose="practise"))
    assert new.told("list")["sent"] == "nowhere"
    assert '"every": 24' in new.read("/etc/gullery/sends")


def test_a_sending_that_failed_is_named(gullery: Gullery) -> None:
    gullery.machine.do("sends-every", "24")
    gullery.machine.do("set", "ice", "every 600 s", "night-watch", "winter is coming")
    gullery.machine.do("key", "ice", feed="made-up-key-of-ice\n")
    assert findings(gullery) == {}, "it is not due yet"
    gullery.machine.write("/etc/gullery/known_hosts", "")
    gullery.machine.write("/var/lib/gullery/tried", "0 sent\n")
    assert set(findings(gullery)) == {"sending-failed", "other-server-unknown"}


def test_the_keys_that_no_commit_has_are_proved(gullery: Gullery) -> None:
    backup = gullery.take()
    new = gullery.fresh()
    sheet = gullery.draft(backup, new, purpose="practise", parts=["repository"])
    run = gullery.service.ended(gullery.client.start_restore(sheet).id)
    assert not came_to(run, "proved")
    [check] = [one for one in gullery.client.sheet(sheet).sheet.steps if one.do == "check"]
    assert "berth, engine, tide: without a key" in check.detail


def test_commits_that_were_not_sent_are_named(gullery: Gullery) -> None:
    gullery.machine.do("set", "ice", "every 600 s", "night-watch", "winter is coming")
    gullery.machine.do("key", "ice", feed="made-up-key-of-ice\n")
    found = findings(gullery)
    assert set(found) == {"unsent-commit"}
    assert "night-watch: winter is coming" in found["unsent-commit"]


def test_what_no_commit_has_is_named(gullery: Gullery) -> None:
    gullery.machine.write("/srv/gullery/sources/tide", "by hand\n")
    found = findings(gullery)
    assert set(found) == {"in-no-commit"}
    assert "sources/tide" in found["in-no-commit"]


def test_another_server_that_cannot_be_asked_is_unknown(gullery: Gullery) -> None:
    gullery.machine.write("/etc/gullery/known_hosts", "")
    found = findings(gullery)
    assert set(found) == {"other-server-unknown"}


def test_older_tools_are_refused_before_anything_begins(gullery: Gullery) -> None:
    backup = gullery.take()
    new = gullery.fresh()
    older = '#!/bin/sh\ntest "$*" != "-C /srv/gullery --version" || exec echo git version 1.8.3\n'
    new.write("/local/sbin/git", older + 'exec /usr/bin/git "$@"\n', mode=0o755)
    sheet = gullery.client.sheet(gullery.draft(backup, new)).sheet
    texts = [one.text for one in sheet.findings if one.severity == "blocker"]
    assert any("git" in text and "1.8.3" in text for text in texts), texts
