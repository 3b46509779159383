"""The simulated address server keeps to its own manual; Fennox is not involved."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from saltmere.tideway.machine import TidewayServer

Installs = Callable[..., TidewayServer]


@pytest.fixture
def tideway(install_appliance: Installs) -> TidewayServer:
    made = install_appliance(TidewayServer)
    made.set_up()
    return made


def refused(server: TidewayServer, *words: str, feed: str = "") -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words, feed=feed)
    return str(error.value).split("tideway: ")[1].strip()


def test_a_new_one_serves_nobody_until_the_directory_authorised_it(
    install_appliance: Installs,
) -> None:
    new = install_appliance(TidewayServer)
    assert new.do("authorised") == "no\n"
    assert refused(new, "serve", "on") == "the directory has not authorised this server"
    new.write("/etc/tideway/authorised", "TW-another\n")
    assert new.do("authorised") == "no\n", "another server is"
    new.authorise()
    new.do("serve", "on")
    assert new.told("about")["serves"]


def test_clients_get_addresses_and_keep_them(tideway: TidewayServer) -> None:
    first = tideway.do("lease", "deck", "02:00:00:00:07:41")
    assert tideway.do("lease", "deck", "02:00:00:00:07:41") == first
    assert tideway.do("lease", "deck", "02:00:00:00:07:20") == "10.7.0.20\n", "it is reserved"
    tideway.do("serve", "off")
    assert refused(tideway, "lease", "deck", "02:00:00:00:07:50") == "it serves nobody"


def test_a_dump_is_replayed_into_a_new_one(
    tideway: TidewayServer, install_appliance: Installs
) -> None:
    new = install_appliance(TidewayServer)
    dumped = tideway.do("dump")
    assert tideway.do("test", feed=dumped) == "sound\n"
    new.do("replay", feed=dumped)
    before = tideway.state()
    assert new.state() == {**before, "serves": False}
    assert new.do("clients") == "none\n", "leases are in no dump"


def test_it_does_not_replay_over_what_is_there_and_stops_half_way(
    tideway: TidewayServer, install_appliance: Installs
) -> None:
    dumped = tideway.do("dump")
    assert refused(tideway, "replay", feed=dumped) == (
        "line 1: there is a scope berths already; what stands before it was done"
    )
    new = install_appliance(TidewayServer)
    new.do("scope", "desks", "10.8.0.10", "10.8.0.99")
    assert "there is a scope desks already" in refused(new, "replay", feed=dumped)
    assert [one["name"] for one in new.state()["scopes"]] == ["berths", "deck", "desks"]


def test_half_a_dump_is_sound_to_nobody(tideway: TidewayServer) -> None:
    dumped = tideway.do("dump")
    half = dumped[: dumped.index("reserve") + 12]
    assert refused(tideway, "test", feed=half) == "line 3 is none of a dump"


def test_scopes_in_use_are_not_cleared(tideway: TidewayServer) -> None:
    assert refused(tideway, "clear") == "clients have addresses: 10.7.0.10, 10.7.0.11"
    for address in ("10.7.0.10", "10.7.0.11"):
        tideway.do("free", address)
    tideway.do("clear")
    assert tideway.state()["scopes"] == []
