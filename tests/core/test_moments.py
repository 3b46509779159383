"""Which time it is: clocks and dates against each other, and what a ladder may believe of dates."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.schedule import moments
from fennox.core.schedule.moments import (
    Apart,
    ClockEvidence,
    Disordered,
    Event,
    FromFuture,
    Jumped,
    ObservedClock,
    judge,
    sentence,
)

NOW = datetime(2026, 11, 29, 2, 40, tzinfo=UTC)
MINUTE, HOUR, DAY, YEAR = (
    timedelta(minutes=1),
    timedelta(hours=1),
    timedelta(days=1),
    timedelta(days=365),
)


def test_clocks_that_agree_and_dates_that_have_passed_are_no_doubt() -> None:
    evidence = ClockEvidence(
        "ours",
        NOW,
        (ObservedClock(moments.DATABASE, MINUTE), ObservedClock("the store", -MINUTE)),
        (Event(moments.BACKUP, NOW - DAY), Event(moments.RUN, NOW + MINUTE)),
        tended=NOW - HOUR,
    )
    assert judge(evidence) == ()


@pytest.mark.parametrize("by", [3 * MINUTE, DAY, YEAR, -3 * MINUTE, -DAY, -YEAR])
def test_a_clock_that_differs_is_named_with_by_how_much(by: timedelta) -> None:
    [doubt] = judge(ClockEvidence("ours", NOW, (ObservedClock(moments.DATABASE, by),)))
    assert doubt == Apart(moments.DATABASE, by)
    assert sentence(doubt, "ours").startswith("PostgreSQL is ")
    assert moments.span(abs(by)) in sentence(doubt, "ours")


def test_what_happened_in_the_future_is_a_doubt_until_a_person_knows_of_it() -> None:
    event = Event(moments.BACKUP, NOW + YEAR)
    [doubt] = judge(ClockEvidence("ours", NOW, events=(event,)))
    assert doubt == FromFuture(moments.BACKUP, NOW + YEAR, YEAR)
    known = Event(moments.BACKUP, NOW + YEAR, accepted=NOW + YEAR)
    assert judge(ClockEvidence("ours", NOW, events=(known,))) == ()
    later = Event(moments.BACKUP, NOW + YEAR + DAY, accepted=NOW + YEAR)
    assert len(judge(ClockEvidence("ours", NOW, events=(later,)))) == 1


def test_a_difference_that_a_person_has_accepted_is_none_and_another_one_is() -> None:
    assert (
        judge(
            ClockEvidence(
                "ours", NOW, (ObservedClock("the store", 2 * HOUR + MINUTE, accepted=2 * HOUR),)
            )
        )
        == ()
    )
    assert (
        judge(
            ClockEvidence(
                "ours", NOW, (ObservedClock("the store", timedelta(), accepted=2 * HOUR),)
            )
        )
        == ()
    ), "it was mended"
    assert (
        len(
            judge(
                ClockEvidence("ours", NOW, (ObservedClock("the store", HOUR, accepted=2 * HOUR),))
            )
        )
        == 1
    )


def test_a_jump_of_more_than_a_day_is_a_doubt() -> None:
    assert judge(ClockEvidence("ours", NOW, tended=NOW - DAY)) == ()
    [doubt] = judge(ClockEvidence("ours", NOW, tended=NOW - YEAR))
    assert doubt == Jumped(NOW - YEAR, YEAR)


def test_every_doubt_has_a_sentence() -> None:
    doubts = (
        Apart("PostgreSQL", -2 * DAY),
        FromFuture(moments.RUN, NOW + YEAR, YEAR),
        Jumped(NOW - YEAR, YEAR),
        Disordered(tuple(f"web-{number}" for number in range(7))),
    )
    assert [sentence(doubt, "ours") for doubt in doubts] == [
        "PostgreSQL is 2 days behind ours",
        "the newest run is dated 2027-11-29 02:40 UTC, 365 days in the future of ours",
        "ours went 365 days forward since the last tending at 2025-11-29 02:40 UTC",
        (
            "backups of web-0, web-1, web-2, web-3, web-4 and 2 more are dated before backups that"
            " were taken earlier"
        ),
    ]


@pytest.mark.parametrize(
    ("length", "text"),
    [
        (timedelta(seconds=5), "5 seconds"),
        (3 * MINUTE, "3 minutes"),
        (26 * HOUR, "26 hours"),
        (2 * DAY, "2 days"),
    ],
)
def test_lengths_are_told_in_the_largest_unit_that_says_enough(
    length: timedelta, text: str
) -> None:
    assert moments.span(length) == text


def test_a_date_from_the_future_and_both_sides_of_a_contradiction_are_in_doubt() -> None:
    dates = {1: NOW - 4 * DAY, 2: NOW - 3 * DAY, 3: NOW - YEAR, 4: NOW - DAY, 5: NOW + YEAR}
    assert moments.dates_in_doubt(dates, NOW) == {1, 2, 3, 5}
    assert moments.misdated(dates, NOW) == {3, 5}


dates = st.dictionaries(
    st.integers(1, 30), st.integers(-500, 100).map(lambda hours: NOW + hours * HOUR)
)


@given(dates)
def test_what_is_not_in_doubt_fits_order_and_now(found: dict[int, datetime]) -> None:
    doubtful = moments.dates_in_doubt(found, NOW)
    sure = [found[number] for number in sorted(found) if number not in doubtful]
    assert sure == sorted(sure)
    assert all(at <= NOW + moments.APART for at in sure)


@given(dates)
def test_the_fewest_that_must_be_wrong_are_in_doubt_and_without_them_nothing_is(
    found: dict[int, datetime],
) -> None:
    wrong = moments.misdated(found, NOW)
    assert wrong <= moments.dates_in_doubt(found, NOW) or not wrong - moments.dates_in_doubt(
        found, NOW
    )
    rest = {number: at for number, at in found.items() if number not in wrong}
    assert moments.dates_in_doubt(rest, NOW) == frozenset()


@given(st.lists(st.integers(0, 12), min_size=1, max_size=9))
def test_no_smaller_selection_of_wrong_dates_would_do(hours: list[int]) -> None:
    found = {number: NOW - 20 * HOUR + hour * HOUR for number, hour in enumerate(hours, 1)}
    fewest = len(moments.misdated(found, NOW))
    longest = [1] * len(
        hours
    )  # of a subsequence that ends there and never goes back, the plain way
    for end in range(len(hours)):
        for before in range(end):
            if hours[before] <= hours[end]:
                longest[end] = max(longest[end], longest[before] + 1)
    assert fewest == len(hours) - max(longest)
