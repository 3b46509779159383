"""Retention: what is kept and why; the last good backup never goes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import BadInput
from fennox.core.retention import ladder
from fennox.core.retention.ladder import AmongNewest, OnHold, OnRung, Reason
from tests.backups import Item

NOW = datetime(2026, 6, 1, 12, tzinfo=UTC)
OSLO = ZoneInfo("Europe/Oslo")
TEXT = (
    "everything for 14 days, daily for 60 days, weekly for 26 weeks, monthly for 7 years, always 3"
)


def every(hours: int, count: int) -> list[Item]:
    return [Item(f"b{n:04}", NOW - timedelta(hours=hours * n)) for n in range(count)]


def said(why: list[Reason]) -> list[str]:
    return [ladder.in_words(reason) for reason in why]


def test_rungs_keep_the_newest_of_each_period() -> None:
    kept = ladder.kept(every(12, 200), ladder.parse("daily for 10 days, always 1"), NOW, OSLO)
    days = [
        item
        for item, why in kept.items()
        if any("daily" in ladder.in_words(reason) for reason in why)
    ]
    assert len(days) == 11  # today and ten days back
    assert said(kept["b0000"]) == ["daily for 10 days", "always 1"]
    assert kept["b0199"] == []


def test_everything_means_everything_within_its_time() -> None:
    kept = ladder.kept(every(1, 48), ladder.parse("everything for 1 day, always 1"), NOW, OSLO)
    assert [bool(why) for why in kept.values()] == [True] * 25 + [False] * 23


def test_days_are_local_days() -> None:
    late = [
        Item("a", datetime(2026, 1, 1, 23, 30, tzinfo=UTC)),
        Item("b", datetime(2026, 1, 1, 22, 30, tzinfo=UTC)),
    ]
    plan = ladder.parse("daily for 3 days, always 1")
    now = datetime(2026, 1, 2, 12, tzinfo=UTC)
    assert all(ladder.kept(late, plan, now, OSLO).values()), "two local days"
    assert not ladder.kept(late, plan, now, ZoneInfo("UTC"))["b"], "one day in UTC"


def test_held_doubtful_and_safety_copies_count_for_no_rung_and_push_nothing_out() -> None:
    items = [
        Item("safety", NOW - timedelta(days=400), held="before the move", safety=True),
        Item("doubtful", NOW - timedelta(hours=1), doubtful=True),
        Item("good", NOW - timedelta(days=300)),
        Item("released", NOW - timedelta(days=400), safety=True),
    ]
    kept = ladder.kept(items, ladder.parse("always 1"), NOW, OSLO)
    assert said(kept["safety"]) == ["on hold: before the move"]
    assert said(kept["doubtful"]) == ["doubtful, until somebody has looked"]
    assert said(kept["good"]) == ["always 1"]
    assert kept["released"] == []


items = st.lists(
    st.builds(
        Item,
        id=st.uuids().map(str),
        time=st.integers(0, 4000).map(lambda hours: NOW - timedelta(hours=hours)),
        held=st.sampled_from([None, None, None, "a reason"]),
        doubtful=st.booleans(),
        safety=st.sampled_from([False, False, True]),
    ),
    max_size=40,
    unique_by=lambda item: item.id,
)
texts = st.sampled_from(
    [TEXT, "always 1", "daily for 3 days", "everything for 2 days, monthly for 1 year, always 2"]
)


@given(items, texts)
def test_the_last_good_backup_never_goes(given_items: list[Item], text: str) -> None:
    kept = ladder.kept(given_items, ladder.parse(text), NOW, OSLO)
    good = [item for item in given_items if not item.doubtful and not item.safety]
    if good:
        newest = max(good, key=lambda item: (item.time, item.id))
        assert kept[newest.id]
    for item in given_items:
        if item.held or item.doubtful:
            assert kept[item.id]


@given(items, texts)
def test_expiring_in_two_steps_keeps_the_same_as_in_one(given_items: list[Item], text: str) -> None:
    plan = ladder.parse(text)
    kept = ladder.kept(given_items, plan, NOW, OSLO)
    left = [item for item in given_items if kept[item.id]]
    assert all(ladder.kept(left, plan, NOW, OSLO).values())


@given(items, texts, st.randoms())
def test_the_order_of_the_list_does_not_matter(
    given_items: list[Item], text: str, chance: object
) -> None:
    shuffled = list(given_items)
    chance.shuffle(shuffled)  # type: ignore[attr-defined]
    plan = ladder.parse(text)
    assert ladder.kept(given_items, plan, NOW, OSLO) == ladder.kept(shuffled, plan, NOW, OSLO)


@given(items, texts, st.integers(0, 4000))
def test_what_keeps_a_backup_does_not_depend_on_older_ones(
    given_items: list[Item], text: str, hours: int
) -> None:
    plan, since = ladder.parse(text), NOW - timedelta(hours=hours)
    kept = ladder.kept(given_items, plan, NOW, OSLO)
    newer = [item for item in given_items if item.time >= since]
    assert ladder.kept(newer, plan, NOW, OSLO) == {item.id: kept[item.id] for item in newer}


def test_a_ladder_reads_back_as_it_was_written() -> None:
    assert str(ladder.parse(TEXT.upper())) == TEXT
    assert str(ladder.parse("daily for 3 days")) == "daily for 3 days, always 1"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "not understood"),
        ("hourly for 3 days", "hourly for 3 days"),
        ("always 0", "keeps nothing"),
        ("daily for 0 days", "keeps nothing"),
        ("always 2, always 3", "always 3"),
    ],
)
def test_a_rung_that_keeps_nothing_or_is_not_understood_is_an_error(text: str, said: str) -> None:
    with pytest.raises(BadInput, match=said):
        ladder.parse(text)


def test_when_a_backup_goes_is_told_by_the_rung_that_keeps_it_longest() -> None:
    day = timedelta(days=1)
    two_weeks, daily = [
        OnRung(rung) for rung in ladder.parse("everything for 14 days, daily for 60 days").rungs
    ]
    [weekly] = [OnRung(rung) for rung in ladder.parse("weekly for 2 weeks").rungs]
    assert ladder.goes(NOW, [two_weeks, daily]) == NOW + 60 * day
    assert ladder.goes(NOW, [weekly]) == NOW + 14 * day
    assert ladder.goes(NOW, [daily, AmongNewest(3)]) is None
    assert ladder.goes(NOW, [OnHold("daily for 3 days")]) is None, "whatever the reason reads like"
    assert ladder.goes(NOW, []) == NOW


@given(st.lists(st.integers(0, 400), min_size=1, max_size=30, unique=True))
def test_a_backup_is_kept_until_then_and_not_by_a_rung_afterwards(ages: list[int]) -> None:
    plan = ladder.parse("everything for 3 days, daily for 20 days, monthly for 1 year, always 1")
    items = [Item(id=str(age), time=NOW - timedelta(days=age)) for age in ages]
    for id_, why in ladder.kept(items, plan, NOW, OSLO).items():
        end = ladder.goes(NOW - timedelta(days=int(id_)), why)
        if why and end is not None:
            assert end >= NOW
            assert ladder.kept(items, plan, end, OSLO)[id_], "until then something keeps it"
            assert not ladder.kept(items, plan, end + timedelta(seconds=1), OSLO)[id_]
