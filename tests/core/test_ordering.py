"""In which order systems come back."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.facts.return_order import host_in, in_order

NAMES = [f"system-{number}" for number in range(8)]
graphs = st.dictionaries(
    st.sampled_from(NAMES), st.sets(st.sampled_from([*NAMES, "stranger"])), max_size=8
)


def test_what_is_needed_comes_back_before_what_needs_it() -> None:
    found = in_order({"web": ["names", "ldap"], "ldap": ["names"], "names": [], "printer": []})
    assert found.waves == [["names", "printer"], ["ldap"], ["web"]]
    assert found.circles == []


def test_a_circle_is_told_and_does_not_keep_the_others_from_coming_back() -> None:
    found = in_order({"names": ["ldap"], "ldap": ["names"], "web": ["names"]})
    assert found.circles == [["ldap", "names"]]
    assert found.waves == [["ldap", "names"], ["web"]]


@given(graphs)
def test_every_system_comes_back_once_and_only_circles_break_a_need(
    needs: dict[str, set[str]],
) -> None:
    found = in_order(needs)
    assert sorted(name for wave in found.waves for name in wave) == sorted(needs)
    wave_of = {name: number for number, wave in enumerate(found.waves) for name in wave}
    together = [set(circle) for circle in found.circles]
    for name, others in needs.items():
        for other in others & needs.keys() - {name}:
            broken = any({name, other} <= circle for circle in together)
            assert broken or wave_of[other] < wave_of[name]


@pytest.mark.parametrize(
    ("text", "host"),
    [
        ("ldaps://one.saltmere.example:636/dc=x", "one.saltmere.example"),
        ("10.1.2.3:80", "10.1.2.3"),
        ("[fd00::7]:53", "fd00::7"),
        ("names", "names"),
        ("http://$backend/", ""),
        ("", ""),
        ("[broken", ""),
        ("user@10.0.0.1", "10.0.0.1"),
    ],
)
def test_hosts_are_found_in_the_ways_configurations_name_them(text: str, host: str) -> None:
    assert host_in(text) == host
