"""Due times: every local day has exactly one, whatever the clocks do."""

from __future__ import annotations

from datetime import UTC, datetime, time, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import BadInput
from fennox.core.schedule import schedule

moments = st.integers(0, 10 * 365 * 86400).map(
    lambda s: datetime(2020, 1, 1, tzinfo=UTC) + timedelta(seconds=s)
)
zones = st.sampled_from(
    ["UTC", "Europe/Oslo", "America/St_Johns", "Pacific/Apia", "Asia/Kathmandu"]
)
times = st.times().map(lambda at: f"{at.hour:02}:{at.minute:02}")
weekdays = st.sampled_from(["monday", "wednesday", "saturday", "weekday", "tuesday and friday"])
phrases = st.one_of(
    st.builds(lambda at: f"every day at {at}", times),
    st.builds(lambda one, two: f"every day at {one} and {two}", times, times),
    st.builds(lambda day, at: f"every {day} at {at}", weekdays, times),
    st.builds(lambda n, at: f"every {n} days at {at}", st.integers(2, 9), times),
    st.builds(lambda n, at: f"every {n} weeks on sunday at {at}", st.integers(2, 5), times),
    st.builds(lambda n: f"every {n} hours", st.integers(1, 30)),
    st.builds(lambda n: f"every {n} minutes between 06:00 and 20:00", st.integers(5, 90)),
    st.builds(lambda at: f"on the 1st, 15th and last day at {at}", times),
    st.builds(lambda at: f"on the first sunday of january and july at {at}", times),
    st.builds(lambda at: f"{int(at[3:])} {int(at[:2])} * * 1-5", times),
    st.builds(
        lambda at: f"RRULE:FREQ=WEEKLY;BYDAY=TU,SA;BYHOUR={int(at[:2])};BYMINUTE={int(at[3:])}",
        times,
    ),
)


def local(moment: datetime | None, zone: str) -> str:
    assert moment is not None
    return moment.astimezone(schedule.zone_named(zone)).strftime("%Y-%m-%d %H:%M")


def days(
    phrase: str, count: int = 4, zone: str = "Europe/Oslo", since: str = "2026-01-30T12:00:00+00:00"
) -> list[str]:
    return [
        local(due, zone)
        for due in schedule.parse(phrase, zone).coming(datetime.fromisoformat(since), count)
    ]


@pytest.mark.parametrize(
    ("phrase", "due"),
    [
        ("every day at 02:40", ["2026-01-31 02:40", "2026-02-01 02:40"]),
        ("Every Day At 14:40 and 02:40", ["2026-01-30 14:40", "2026-01-31 02:40"]),
        ("every saturday at 23:15", ["2026-01-31 23:15", "2026-02-07 23:15"]),
        ("every monday, wednesday and friday at 01:00", ["2026-02-02 01:00", "2026-02-04 01:00"]),
        ("every weekday at 06:00", ["2026-02-02 06:00", "2026-02-03 06:00"]),
        ("every 2 weeks on saturday at 03:00", ["2026-01-31 03:00", "2026-02-14 03:00"]),
        ("every 3 days at 04:00", ["2026-01-31 04:00", "2026-02-03 04:00"]),
        ("every 5 hours", ["2026-01-30 15:00", "2026-01-30 20:00"]),
        ("every hour", ["2026-01-30 14:00", "2026-01-30 15:00"]),
        ("every 30 minutes between 22:00 and 01:00", ["2026-01-30 22:00", "2026-01-30 22:30"]),
        ("on the 1st at 03:30", ["2026-02-01 03:30", "2026-03-01 03:30"]),
        ("on the 31st at 03:30", ["2026-01-31 03:30", "2026-03-31 03:30"]),
        ("on the last day at 03:30", ["2026-01-31 03:30", "2026-02-28 03:30"]),
        ("on the first sunday at 03:30", ["2026-02-01 03:30", "2026-03-01 03:30"]),
        (
            "on the last friday of june and december at 03:30",
            ["2026-06-26 03:30", "2026-12-25 03:30"],
        ),
        ("40 2 * * *", ["2026-01-31 02:40", "2026-02-01 02:40"]),
        ("0 3 1 * *", ["2026-02-01 03:00", "2026-03-01 03:00"]),
        ("RRULE:FREQ=DAILY;BYHOUR=2;BYMINUTE=40", ["2026-01-31 02:40", "2026-02-01 02:40"]),
        (
            "rrule:freq=monthly;byday=-1sa;byhour=1;byminute=0",
            ["2026-01-31 01:00", "2026-02-28 01:00"],
        ),
    ],
)
def test_what_people_write_is_understood(phrase: str, due: list[str]) -> None:
    assert days(phrase, 2) == due


def test_a_rule_with_an_end_of_its_own_ends() -> None:
    text = "DTSTART:20260201T024000\nRRULE:FREQ=DAILY;COUNT=2"
    assert days(text) == ["2026-02-01 02:40", "2026-02-02 02:40"]
    assert schedule.parse(text, "UTC").after(datetime(2027, 1, 1, tzinfo=UTC)) is None


def test_a_time_that_does_not_exist_is_taken_as_much_later_as_the_clocks_jump() -> None:
    for phrase in ("every day at 02:30", "30 2 * * *", "RRULE:FREQ=DAILY;BYHOUR=2;BYMINUTE=30"):
        assert days(phrase, 3, since="2026-03-28T12:00:00+00:00") == [
            "2026-03-29 03:30",
            "2026-03-30 02:30",
            "2026-03-31 02:30",
        ]
    # one that exists beside it keeps its place, and two that meet are one
    assert days("every day at 02:30 and 03:10", 3, since="2026-03-28T12:00:00+00:00") == [
        "2026-03-29 03:10",
        "2026-03-29 03:30",
        "2026-03-30 02:30",
    ]
    assert days("every day at 02:30 and 03:30", 2, since="2026-03-28T12:00:00+00:00") == [
        "2026-03-29 03:30",
        "2026-03-30 02:30",
    ]


def test_a_time_that_exists_twice_is_taken_once_and_intervals_know_no_clocks() -> None:
    plan = schedule.parse("every day at 02:30", "Europe/Oslo")
    first, second = plan.coming(datetime(2026, 10, 24, 12, tzinfo=UTC), 2)
    assert (first, second) == (
        datetime(2026, 10, 25, 0, 30, tzinfo=UTC),
        datetime(2026, 10, 26, 1, 30, tzinfo=UTC),
    )
    hours = schedule.parse("every 2 hours", "Europe/Oslo").coming(
        datetime(2026, 10, 24, 12, tzinfo=UTC), 20
    )
    assert {two - one for one, two in pairwise(hours)} == {timedelta(hours=2)}


def test_leap_days_come() -> None:
    daily = schedule.parse("every day at 00:00", "UTC")
    assert daily.after(datetime(2028, 2, 28, 0, 0, tzinfo=UTC)) == datetime(2028, 2, 29, tzinfo=UTC)
    assert days("on the 29th of february at 12:00", 1, since="2097-01-01T00:00:00+00:00") == [
        "2104-02-29 12:00"
    ]


def test_of_many_missed_due_times_only_the_newest_is_caught_up() -> None:
    plan = schedule.parse("every day at 02:40", "UTC")
    since, now = datetime(2026, 1, 1, 3, tzinfo=UTC), datetime(2026, 1, 9, 3, tzinfo=UTC)
    assert plan.newest_due(since, now) == datetime(2026, 1, 9, 2, 40, tzinfo=UTC)
    assert plan.newest_due(now, now) is None
    yearly = schedule.parse("on the 1st of june at 02:40", "UTC")
    assert yearly.newest_due(datetime(2023, 1, 1, tzinfo=UTC), now) == datetime(
        2025, 6, 1, 2, 40, tzinfo=UTC
    )
    assert plan.count(since, now) == 8


@given(phrases, moments, zones)
def test_due_times_lie_ahead_in_order_and_deciding_again_gives_the_same(
    phrase: str, moment: datetime, zone: str
) -> None:
    plan = schedule.parse(phrase, zone)
    coming = plan.coming(moment, 5)
    assert len(coming) == 5
    assert all(one < two for one, two in pairwise([moment, *coming]))
    for before, due in pairwise([moment, *coming]):
        assert plan.after(before) == due
        assert plan.after(due - timedelta(seconds=1)) == due
    assert plan.newest_due(moment, coming[-1]) == coming[-1]
    assert plan.count(moment, coming[-1]) == 5


@given(phrases, st.lists(moments, min_size=2, max_size=5), zones)
def test_what_is_kept_of_a_schedule_says_the_same_from_wherever_it_is_asked(
    phrase: str, asked: list[datetime], zone: str
) -> None:
    first, *others = sorted(asked)
    plan = schedule.parse(phrase, zone)
    for (
        moment
    ) in others:  # not in the order of time, so that what was worked out for one serves another
        near = min(moment, first + timedelta(days=60))
        begun = [
            due
            for due in schedule.Schedule(plan.rule, plan.zone).between(
                first, near + timedelta(days=40)
            )
        ]
        assert list(plan.between(near, near + timedelta(days=40))) == [
            due for due in begun if due > near
        ]


@given(moments, zones, times)
def test_no_local_day_loses_its_due_time_or_has_two(moment: datetime, zone: str, at: str) -> None:
    due = schedule.parse(f"every day at {at}", zone).coming(moment, 400)
    dates = [moment.astimezone(schedule.zone_named(zone)).date() for moment in due]
    gaps = {(two - one).days for one, two in pairwise(dates)}
    assert gaps <= (
        {1, 2} if zone == "Pacific/Apia" else {1}
    )  # Apia left out a day in 2011, and never since


@pytest.mark.parametrize(
    ("phrase", "zone", "said"),
    [
        ("every fullmoon at 02:40", "UTC", "at `fullmoon`, letter 7"),
        ("every day at 25:00", "UTC", "at `25:00`"),
        ("every day at 02:40 and", "UTC", "at its end"),
        ("every day 02:40", "UTC", "`at` is missing"),
        ("every 2 minutes", "UTC", "every 5 minutes is the most often"),
        ("every 0 hours", "UTC", "1 to 1000"),
        ("every 9", "UTC", "is missing"),
        ("on the 32nd at 02:40", "UTC", "at `32nd`"),
        ("on the first of may at 02:40", "UTC", "at `of`"),
        ("every day at 02:40 please", "UTC", "at `please`"),
        ("now and then", "UTC", "begins with"),
        ("", "UTC", "begins with"),
        ("RRULE:FREQ=SECONDLY", "UTC", "more often than every hour"),
        ("RRULE:FREQ=SOMETIMES", "UTC", "no recurrence rule"),
        ("0 0 30 2 *", "UTC", "no cron line"),
        ("on the 31st of february at 02:40", "UTC", "never comes"),
        ("61 2 * * *", "UTC", "no cron line"),
        ("every day at 02:40", "Europe/Atlantis", "no time zone"),
        ("every day at 02:40", "../etc/passwd", "no time zone"),
    ],
)
def test_a_phrase_that_is_not_understood_is_told_with_the_word_at_fault(
    phrase: str, zone: str, said: str
) -> None:
    with pytest.raises(BadInput, match=said):
        schedule.parse(phrase, zone)


def test_a_moment_without_a_zone_is_refused() -> None:
    with pytest.raises(ValueError, match="zone"):
        schedule.parse("every day at 02:40", "UTC").after(datetime(2026, 1, 1))  # noqa: DTZ001


def test_nothing_begins_in_quiet_hours_and_what_is_due_then_begins_at_their_end() -> None:
    zone = schedule.zone_named("Europe/Oslo")
    window = schedule.quiet_hours("22:00 to 05:30")
    assert window == (time(22), time(5, 30))
    for moment, begins in (
        ("2026-01-31T23:00:00+01:00", "2026-02-01 05:30"),
        ("2026-02-01T04:00:00+01:00", "2026-02-01 05:30"),
        ("2026-02-01T05:30:00+01:00", "2026-02-01 05:30"),
    ):
        assert (
            local(schedule.after_quiet(window, zone, datetime.fromisoformat(moment)), "Europe/Oslo")
            == begins
        )
    for wrong in ("22 to 5", "25:00 to 05:00", "05:00 to 05:00"):
        with pytest.raises(BadInput, match="uiet hours"):
            schedule.quiet_hours(wrong)
    assert schedule.quiet_hours(" ") is None


def test_every_system_keeps_its_place_in_a_spread_and_a_thousand_do_not_meet() -> None:
    places = [schedule.place_in(60, f"system-{number}") for number in range(1000)]
    assert places == [schedule.place_in(60, f"system-{number}") for number in range(1000)]
    assert max(places) < timedelta(minutes=60)
    in_minutes = [
        sum(place // timedelta(minutes=1) == minute for place in places) for minute in range(60)
    ]
    assert max(in_minutes) < 40
    assert schedule.place_in(0, "system") == timedelta()
