"""``fennox status``, and the list of systems, where there are more than anybody reads."""

from __future__ import annotations

import json

import pytest

from fennox.cli.watch.status import TABLE
from fennox.client.api import OutOfReachError
from fennox.wire.machines.enrolling import NewSystem, Retired
from fennox.wire.stores import NewStore
from tests.cli.test_cli import fails, ok
from tests.service.running import PASSPHRASE, Service, until
from tests.service.takes.test_hand_ins import SWITCH, settings


@pytest.fixture
def switches(service: Service) -> Service:
    """Twenty-three switches of which people hand in the settings: one was handed in, one is
    retired.
    """
    (service.folder / "attic").mkdir()
    with service.client() as client:
        client.add_store(
            NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        )
        client.add_kind(SWITCH)
        for number in range(23):
            site = "holm" if number % 2 else "quay"
            client.add_system(
                NewSystem(
                    name=f"switch-{number:02}",
                    kind="voice-switch",
                    address=f"10.1.2.{number}",
                    site=site,
                )
            )
        client.retire("switch-07", Retired(because="sold"))
    service.file("one.json", settings("T-1", "quay"))
    ok(service, "backup", "hand-in", "switch-03", "one.json")
    return service


def test_of_many_systems_it_shows_those_that_are_longest_without_a_good_backup(
    switches: Service,
) -> None:
    shown = ok(switches, "status")
    lines = [line for line in shown.stdout.split("\n") if line.startswith("switch-")]
    assert [line.split()[0] for line in lines] == [
        f"switch-{n:02}" for n in range(22) if n not in (3, 7)
    ]
    assert all(" never " in line for line in lines)
    assert "These 20 of 22 systems have gone longest without a good backup" in shown.stderr
    assert len(json.loads(ok(switches, "status", "--json").stdout)["estate"]) == 23


def test_the_list_is_sorted_and_filtered_as_asked(switches: Service) -> None:
    def listed(*words: str) -> list[str]:
        return ok(switches, "system", "list", "--quiet", *words).stdout.split()

    assert listed("--retired") == ["switch-07"]
    assert len(listed("--in-use")) == 22
    assert len(listed()) == 23
    assert listed("--sort", "newest-good", "--down")[0] == "switch-03"
    assert listed("--sort", "newest-good")[-1] == "switch-03"
    by_site = listed("--sort", "site", "--in-use")
    assert (by_site[0], by_site[-1]) == ("switch-01", "switch-22")
    fails(switches, 2, "invalid choice: 'age'", "system", "list", "--sort", "age")
    fails(switches, 2, "not allowed with", "system", "list", "--retired", "--in-use")


def test_what_is_asked_ahead_is_asked_once_and_fails_where_it_is_wanted(service: Service) -> None:
    asked: list[str] = []
    with service.client() as client:
        client.http.event_hooks["request"].append(lambda request: asked.append(request.url.path))
        client.ask_ahead("/status")
        until(lambda: len(asked) == 1, "it is asked before anybody wants it")
        assert client.status().systems == 0
        assert len(asked) == 1
        assert client.status().systems == 0
        assert len(asked) == 2
        client.ask_ahead("/systems", **TABLE)
        assert client.systems(**TABLE) == []
        assert len(asked) == 3, "what status asks ahead is what it then asks for"
        service.stop()
        client.ask_ahead("/status")
        with pytest.raises(OutOfReachError):
            client.status()
