"""The simulated members of a directory keep to their own manual; Fennox is not involved."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from saltmere.kelp.machine import KelpServer, join

Installs = Callable[..., KelpServer]


@pytest.fixture
def members(install_appliance: Installs, key_pair: tuple[str, str]) -> list[KelpServer]:
    """Three members that are equal."""
    made = [install_appliance(KelpServer, repair_key=key_pair[1]) for _ in range(3)]
    made[0].set_up()
    join(made)
    return made


def refused(server: KelpServer, *words: str, feed: str = "") -> str:
    with pytest.raises(RuntimeError) as error:
        server.do(*words, feed=feed)
    return str(error.value).split("kelp: ")[1].strip()


def test_a_change_of_one_is_on_all_and_the_last_one_wins(members: list[KelpServer]) -> None:
    assert members[0].state() == members[1].state() == members[2].state()
    members[1].do("set", "crew/anna", "harbour master")
    members[2].do("remove", "crew/bo")
    assert members[0].state() == members[1].state() == members[2].state()
    assert "crew/bo" not in dict(members[0].state())


def test_it_is_saved_by_its_own_night_alone(members: list[KelpServer]) -> None:
    one = members[0]
    before = one.told("list")["saves"]
    assert one.told("list")["unsaved"], "set up after the night"
    one.save_now()
    assert one.told("list")["unsaved"] == []
    assert len(one.told("list")["saves"]) == len(before)
    one.cut_save_short()
    assert [save["ended"] for save in one.told("list")["saves"]] == [False]
    assert one.told("list")["unsaved"], "what is cut short holds nothing"


def test_it_says_whom_it_did_not_meet(members: list[KelpServer]) -> None:
    members[2].do("alone")
    members[0].do("set", "crew/anna", "mate")
    assert members[0].told("list")["unmet"] == [members[2].host]
    assert members[2].state() != members[0].state()


def test_modes_are_chosen_at_the_machine(members: list[KelpServer]) -> None:
    one = members[0]
    assert refused(one, "load", feed="{}") == (
        "this needs the repair mode, and it is in the ordinary mode"
    )
    one.choose("repair")
    assert refused(one, "set", "crew/anna", "mate").startswith("this needs the ordinary mode")
    assert refused(one, "test") == "it is in the repair mode: nobody is served"
    other = one.read("/root/.ssh/authorized_keys")
    one.choose("ordinary")
    assert one.read("/root/.ssh/authorized_keys") != other, "ordinary logins work again"
    assert one.do("test") == "sound\n"


def test_started_too_early_the_peers_overwrite_a_restored_copy(members: list[KelpServer]) -> None:
    one = members[0]
    one.save_now()
    [save] = (one.folder / "var/lib/kelp/saves").glob("*.kelp")
    old = save.read_text()
    members[1].do("set", "crew/anna", "a mistake")
    one.choose("repair")
    one.do("load", feed=old)
    restored = dict(one.state())
    one.choose("ordinary")
    assert dict(one.state()) != restored
    assert one.state() == members[1].state()


def test_a_save_of_an_earlier_night_is_the_newest_once_it_is_loaded(
    members: list[KelpServer],
) -> None:
    one = members[0]
    one.save_now()
    [save] = (one.folder / "var/lib/kelp/saves").glob("*.kelp")
    told = json.loads(save.read_text())
    other = members[1]
    other.choose("repair")
    other.do("load", feed=json.dumps({**told, "made": "2026-01-31 02:00"}))
    assert [one["name"] for one in other.told("list")["saves"]] == ["save-20260131.kelp"]
    assert other.told("list")["unsaved"] == []


@pytest.mark.parametrize("claim", ["all", "crew", "crew/anna"])
def test_what_is_claimed_wins(members: list[KelpServer], claim: str) -> None:
    one = members[0]
    one.save_now()
    before = dict(one.state())
    [save] = (one.folder / "var/lib/kelp/saves").glob("*.kelp")
    old = save.read_text()
    members[1].do("set", "crew/anna", "a mistake")
    members[1].do("set", "piers/holm", "another mistake")
    one.choose("repair")
    one.do("load", feed=old)
    one.do("claim", claim, "--by", "1000")
    one.choose("ordinary")
    after = dict(members[2].state())
    assert after == dict(one.state())
    assert after["crew/anna"] == before["crew/anna"]
    assert (after["piers/holm"] == before["piers/holm"]) == (claim == "all")


def test_a_step_that_does_not_exceed_what_the_peers_did_changes_nothing(
    members: list[KelpServer],
) -> None:
    one = members[0]
    one.save_now()
    [save] = (one.folder / "var/lib/kelp/saves").glob("*.kelp")
    old = save.read_text()
    for value in range(4):
        members[1].do("set", "crew/anna", f"mistake {value}")
    one.choose("repair")
    one.do("load", feed=old)
    one.do("claim", "all", "--by", "2")
    one.choose("ordinary")
    assert one.state() == members[1].state()
