"""Due times: every local day has exactly one, whatever the clocks do."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core import schedule
from fennox.core.errors import BadInput

moments = st.integers(0, 10 * 365 * 86400).map(lambda s: datetime(2020, 1, 1, tzinfo=UTC) + timedelta(seconds=s))
zones = st.sampled_from(["UTC", "Europe/Oslo", "America/St_Johns", "Pacific/Apia", "Asia/Kathmandu"])


def local(moment: datetime, zone: str) -> str:
    return moment.astimezone(schedule.zone_named(zone)).strftime("%Y-%m-%d %H:%M")


def test_the_next_run_is_today_if_the_time_is_still_to_come_and_tomorrow_otherwise() -> None:
    plan = schedule.parse("every day at 02:40", "Europe/Oslo")
    assert local(plan.after(datetime(2026, 1, 31, 1, 0, tzinfo=UTC)), "Europe/Oslo") == "2026-01-31 02:40"
    assert local(plan.after(datetime(2026, 1, 31, 1, 40, tzinfo=UTC)), "Europe/Oslo") == "2026-02-01 02:40"


def test_a_time_that_does_not_exist_is_taken_as_much_later_as_the_clocks_jump() -> None:
    plan = schedule.parse("every day at 02:30", "Europe/Oslo")
    assert local(plan.after(datetime(2026, 3, 28, 12, tzinfo=UTC)), "Europe/Oslo") == "2026-03-29 03:30"
    assert local(plan.after(datetime(2026, 3, 29, 12, tzinfo=UTC)), "Europe/Oslo") == "2026-03-30 02:30"


def test_a_time_that_exists_twice_is_taken_once() -> None:
    plan = schedule.parse("every day at 02:30", "Europe/Oslo")
    first = plan.after(datetime(2026, 10, 24, 12, tzinfo=UTC))
    assert first == datetime(2026, 10, 25, 0, 30, tzinfo=UTC)
    assert plan.after(first) == datetime(2026, 10, 26, 1, 30, tzinfo=UTC)


def test_leap_day_and_weekdays() -> None:
    plan = schedule.parse("every saturday at 23:15", "UTC")
    assert plan.after(datetime(2028, 2, 26, 23, 15, tzinfo=UTC)) == datetime(2028, 3, 4, 23, 15, tzinfo=UTC)
    daily = schedule.parse("every day at 00:00", "UTC")
    assert daily.after(datetime(2028, 2, 28, 0, 0, tzinfo=UTC)) == datetime(2028, 2, 29, tzinfo=UTC)


def test_of_many_missed_due_times_only_the_newest_is_caught_up() -> None:
    plan = schedule.parse("every day at 02:40", "UTC")
    since, now = datetime(2026, 1, 1, 3, tzinfo=UTC), datetime(2026, 1, 9, 3, tzinfo=UTC)
    assert plan.newest_due(since, now) == datetime(2026, 1, 9, 2, 40, tzinfo=UTC)
    assert plan.newest_due(now, now) is None


@given(moments, zones, st.integers(0, 23), st.integers(0, 59))
def test_due_times_lie_ahead_about_a_day_apart_and_deciding_again_gives_the_same(
    moment: datetime, zone: str, hour: int, minute: int
) -> None:
    plan = schedule.parse(f"every day at {hour:02}:{minute:02}", zone)
    due = plan.after(moment)
    assert moment < due <= moment + timedelta(hours=49)
    assert plan.after(due - timedelta(seconds=1)) == due
    following = plan.after(due)
    assert timedelta(hours=22) <= following - due <= timedelta(hours=50)


@pytest.mark.parametrize(
    ("phrase", "zone", "said"),
    [
        ("every fullmoon at 02:40", "UTC", "fullmoon"),
        ("every day at 25:00", "UTC", "25:00"),
        ("now and then", "UTC", "not understood"),
        ("every day at 02:40", "Europe/Atlantis", "no time zone"),
        ("every day at 02:40", "../etc/passwd", "no time zone"),
    ],
)
def test_a_phrase_that_is_not_understood_is_told_with_the_word_at_fault(phrase: str, zone: str, said: str) -> None:
    with pytest.raises(BadInput, match=said):
        schedule.parse(phrase, zone)


def test_a_moment_without_a_zone_is_refused() -> None:
    with pytest.raises(ValueError, match="zone"):
        schedule.parse("every day at 02:40", "UTC").after(datetime(2026, 1, 1))  # noqa: DTZ001
