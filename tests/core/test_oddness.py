"""What is unlike the takes before it is said, and what is like them never."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.evidence.oddness import DoneTake, oddness

USUAL = [
    DoneTake(30, 40_000_000),
    DoneTake(32, 40_100_000),
    DoneTake(31, 40_000_000),
    DoneTake(240, 40_200_000),
    DoneTake(30, 41_000_000),
]
takes = st.builds(DoneTake, st.floats(0, 1e5), st.integers(0, 10**12))


@pytest.mark.parametrize(
    ("now", "told"),
    [
        (DoneTake(31, 40_000_000), ""),
        (DoneTake(470, 40_000_000), ""),  # once a week everything is read
        (DoneTake(1200, 40_000_000), "it took 20 min, the last 5 took 30 s to 4 min"),
        (DoneTake(30, 19_000_000), "it read 19.0 MB, the last 5 read 40.0 MB to 41.0 MB"),
        (DoneTake(30, 3_000_000_000), "it read 3.0 GB, the last 5 read 40.0 MB to 41.0 MB"),
        (
            DoneTake(900, 1_000_000),
            (
                "it took 15 min, the last 5 took 30 s to 4 min; it read 1.0 MB, the last 5 read"
                " 40.0 MB to 41.0 MB"
            ),
        ),
    ],
)
def test_it_is_held_against_the_longest_and_the_shortest(now: DoneTake, told: str) -> None:
    assert oddness(now, USUAL) == told
    assert oddness(now, USUAL[:4]) == "", "four are too few"


@given(st.lists(takes, min_size=5, max_size=10), st.data())
def test_what_was_there_before_is_never_odd(earlier: list[DoneTake], data: st.DataObject) -> None:
    assert oddness(data.draw(st.sampled_from(earlier)), earlier) == ""


@given(st.lists(takes, min_size=5, max_size=10), takes)
def test_the_order_of_earlier_takes_means_nothing(earlier: list[DoneTake], now: DoneTake) -> None:
    assert oddness(now, earlier) == oddness(now, earlier[::-1])


def test_small_systems_may_double() -> None:
    assert oddness(DoneTake(50, 900_000), [DoneTake(2, 1_000)] * 5) == ""
