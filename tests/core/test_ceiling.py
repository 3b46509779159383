"""What goes from a store that is over its ceiling: only what may, only as much as needed,
evenly.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import BadInput
from fennox.core.retention.ceiling import Held, parse, thinned

NOW = datetime(2026, 6, 1, 12, tzinfo=UTC)

helds = st.lists(
    st.tuples(
        st.sampled_from(["a", "b", "c"]), st.integers(0, 2000), st.integers(0, 50), st.booleans()
    ),
    max_size=60,
).map(
    lambda rows: [
        Held(f"{number:03}", system, NOW - timedelta(hours=hours), size, may_go)
        for number, (system, hours, size, may_go) in enumerate(rows)
    ]
)


@given(helds, st.integers(-5, 1500))
def test_only_what_may_goes_and_only_as_much_as_needed(backups: list[Held], excess: int) -> None:
    gone = thinned(backups, excess, NOW)
    by_id = {held.id: held for held in backups}
    assert len(set(gone)) == len(gone)
    assert all(by_id[name].may_go for name in gone)
    freed = [by_id[name].size for name in gone]
    assert sum(freed[:-1]) < excess or not gone, "no one goes after enough has"
    assert sum(freed) >= excess or set(gone) == {held.id for held in backups if held.may_go}


@given(helds, st.integers(1, 1500))
def test_the_order_in_which_they_are_given_means_nothing(backups: list[Held], excess: int) -> None:
    assert thinned(backups, excess, NOW) == thinned(backups[::-1], excess, NOW)


def test_a_history_gets_thinner_everywhere_and_keeps_its_length() -> None:
    daily = [Held(f"{day:03}", "a", NOW - timedelta(days=day), 1, day >= 3) for day in range(400)]
    gone = {int(name) for name in thinned(daily, 300, NOW)}
    left = sorted(set(range(400)) - gone)
    assert left[:3] == [0, 1, 2]
    assert left[-1] > 350, "how far it reaches back is kept"
    gaps = [after - before for before, after in pairwise(left)]
    young, old = gaps[: len(gaps) // 2], gaps[len(gaps) // 2 :]
    assert sum(young) / len(young) < sum(old) / len(old), "the younger, the closer"
    assert max(gaps) < 40, "no stretch of time is lost"


@pytest.mark.parametrize(
    ("text", "used", "free", "limit"),
    [
        ("80 %", 60, 40, 80),
        ("80%", 60, None, None),
        ("2 GB", 60, None, 2 * 10**9),
        ("1.5TB", 0, 0, 15 * 10**11),
    ],
)
def test_a_ceiling_is_a_share_or_a_size(
    text: str, used: int, free: int | None, limit: int | None
) -> None:
    found = parse(text)
    assert found is not None
    assert found.limit(used, free) == limit


@pytest.mark.parametrize(
    "text", ["a lot", "101 %", "0 %", "-3 GB", "80", "80 percent", "5 GB and more"]
)
def test_what_is_no_ceiling_is_refused(text: str) -> None:
    with pytest.raises(BadInput, match="is no ceiling"):
        parse(text)


def test_nothing_is_no_ceiling() -> None:
    assert parse("  ") is None
