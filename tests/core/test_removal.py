"""How a backup goes: three moves, a person for what is unusual, and nothing that true time
keeps.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from fennox.core.retention import ladder
from fennox.core.retention.removal import MarkedBackup, Wait, waits
from fennox.core.schedule import moments
from fennox.core.schedule.moments import ClockEvidence, Event, ObservedClock

NOW = datetime(2026, 11, 29, 3, tzinfo=UTC)
MINUTE, HOUR, DAY = timedelta(minutes=1), timedelta(hours=1), timedelta(days=1)
LONG_AGO = NOW - 3 * DAY


def backups(count: int, system: str = "web-9") -> list[MarkedBackup]:
    return [
        MarkedBackup(
            f"{system}-{number}",
            system,
            number,
            NOW - (count - number) * HOUR,
            good=True,
            parts=None,
            marked=None,
        )
        for number in range(count)
    ]


def marked(
    found: list[MarkedBackup], *numbers: int, at: datetime = NOW, seen: datetime | None = LONG_AGO
) -> list[MarkedBackup]:
    return [replace(b, marked=at, first_seen=seen) if b.sequence in numbers else b for b in found]


def test_a_backup_goes_by_the_second_sweep_that_sees_the_mark_after_the_grace() -> None:
    [one] = [b for b in marked(backups(10), 0, seen=None) if b.marked]
    rest = backups(10)[1:]
    assert waits([one, *rest], NOW) == {one.id: Wait.FIRST_SWEEP}
    seen = replace(one, first_seen=NOW)
    assert waits([seen, *rest], NOW + 47 * HOUR) == {one.id: Wait.GRACE}
    assert waits([seen, *rest], NOW - HOUR) == {one.id: Wait.GRACE}, (
        "a clock that went back is no grace that is over"
    )
    assert waits([seen, *rest], NOW + 48 * HOUR) == {one.id: None}


def test_more_than_a_fifth_marked_at_one_time_waits_for_a_person() -> None:
    assert set(waits(marked(backups(10), 0, 1), NOW).values()) == {None}
    assert set(waits(marked(backups(10), 0, 1, 2), NOW).values()) == {Wait.SYSTEM_SHARE}
    sure = waits(marked(backups(10), 0, 1, 2), NOW, confirmed=["web-9-0", "web-9-1"])
    assert sure == {"web-9-0": None, "web-9-1": None, "web-9-2": Wait.SYSTEM_SHARE}


def test_what_was_marked_one_after_the_other_goes_together() -> None:
    found = backups(10)
    for number in range(7):
        found = marked(found, number, at=NOW - (7 - number) * DAY)
        found = [
            replace(b, marked=NOW - (7 - b.sequence) * DAY) if b.sequence < number else b
            for b in found
        ]
    assert set(waits(found, NOW).values()) == {None}


def test_one_of_each_system_is_usual_where_a_new_one_pushed_it_out_and_else_waits() -> None:
    few = [backup for name in "abcdefghij" for backup in marked(backups(3, name), 0)]
    assert set(waits(few, NOW).values()) == {None}, "each has a backup of an hour ago"
    a_year_on = NOW + 365 * DAY
    leapt = [replace(b, marked=a_year_on) if b.marked else b for b in few]
    assert set(waits(leapt, a_year_on).values()) == {Wait.STORE_SHARE}, (
        "nothing was taken that pushed them out"
    )


def test_the_newest_of_anything_waits_for_a_person() -> None:
    whole = marked(backups(10), 9)
    assert waits(whole, NOW) == {"web-9-9": Wait.NEWEST}
    doubtful = replace(backups(11)[10], good=False)
    assert waits([*marked(backups(10), 9), doubtful], NOW) == {"web-9-9": Wait.NEWEST}, (
        "it is the newest good one"
    )
    part = MarkedBackup(
        "part",
        "web-9",
        3,
        NOW - DAY,
        good=False,
        parts=frozenset({"history"}),
        marked=NOW,
        first_seen=LONG_AGO,
    )
    assert waits([*backups(10), part], NOW) == {"part": Wait.NEWEST}


def test_what_a_person_has_said_of_a_backup_does_not_wait_for_one() -> None:
    bad = replace(backups(1)[0], marked=NOW, first_seen=LONG_AGO, person=True)
    assert waits([bad], NOW) == {bad.id: None}


# What clocks do. A model of the service on one machine with its database, or on two: it tends every
# hour, sweeps every day, and takes a backup now and then, by a clock that is off by as much as a
# clock may be unnoticed, or by far more.

LADDER = ladder.parse("everything for 2 days, daily for 6 days, weekly for 3 weeks, always 2")
ZONE = ZoneInfo("UTC")
OFF = [
    timedelta(),
    MINUTE,
    -MINUTE,
    25 * HOUR,
    -25 * HOUR,
    3 * DAY,
    -3 * DAY,
    365 * DAY,
    -365 * DAY,
]


@dataclass
class Held:
    """A backup: when it was taken, and what it says."""

    id: str
    sequence: int
    true: datetime
    time: datetime
    misdated: bool = False
    marked: datetime | None = None
    seen: datetime | None = None
    held: str | None = None
    doubtful: bool = False
    safety: bool = False


@dataclass
class World:
    true: datetime = NOW
    off: timedelta = timedelta()  # of the service's clock
    off_database: timedelta | None = None  # None: it is on the same machine
    held: list[Held] = field(default_factory=list)
    taken: int = 0
    tended: datetime | None = None
    tended_at: int = 0  # how many had been taken then
    removed: list[str] = field(default_factory=list)

    @property
    def now(self) -> datetime:
        return self.true + self.off

    def take(self) -> None:
        self.taken += 1
        self.held.append(Held(f"b{self.taken}", self.taken, self.true, self.now))

    def judged(self) -> tuple[moments.Doubt, ...]:
        clocks = (
            ()
            if self.off_database is None
            else (ObservedClock(moments.DATABASE, self.off_database - self.off),)
        )
        dates = [backup.time for backup in self.held if not backup.misdated] + (
            [self.tended] if self.tended else []
        )
        events = (Event(moments.BACKUP, max(dates)),) if dates else ()
        return moments.judge(ClockEvidence("ours", self.now, clocks, events, self.tended))

    def kept(self, now: datetime, *, by_truth: bool) -> set[str]:
        """What the ladder keeps, by dates as they are told or as they are true."""
        numbered = {b.sequence: b.time for b in self.held if not b.misdated and b.marked is None}
        doubted = frozenset() if by_truth else moments.dates_in_doubt(numbered, now)
        undated = {
            b.id for b in self.held if not by_truth and (b.misdated or b.sequence in doubted)
        }
        items = [replace(b, time=b.true) if by_truth else b for b in self.held]
        found = ladder.kept(items, LADDER, now, ZONE, undated=undated)
        return {backup for backup, why in found.items() if why}

    def tend(self) -> None:
        if self.judged():
            for backup in self.held:
                backup.misdated |= backup.sequence > self.tended_at
            return
        kept = self.kept(self.now, by_truth=False)
        for backup in self.held:
            if backup.id not in kept and backup.marked is None:
                backup.marked = self.now
        self.tended, self.tended_at = self.now, self.taken

    def sweep(self) -> None:
        if self.judged():
            return
        kept = self.kept(self.now, by_truth=False)
        for backup in self.held:
            if backup.id in kept:
                backup.marked = backup.seen = None
        standing = [
            MarkedBackup(
                b.id,
                "web-9",
                b.sequence,
                b.time,
                good=True,
                parts=None,
                marked=b.marked,
                first_seen=b.seen,
            )
            for b in self.held
        ]
        found = waits(standing, self.now)
        truly = self.kept(self.true, by_truth=True)
        for backup in list(self.held):
            if backup.marked is not None and backup.seen is None:
                backup.seen = self.now
            elif backup.id in found and found[backup.id] is None:
                assert backup.id not in truly, f"{backup} was removed, and true time keeps it"
                self.held.remove(backup)
                self.removed.append(backup.id)


hours = st.tuples(
    st.sampled_from([*[None] * 12, *OFF]),  # the clock is set
    st.integers(0, 2),  # backups taken
)


@settings(max_examples=max(100, settings().max_examples // 20))
@given(st.lists(hours, min_size=10, max_size=60), st.booleans(), st.integers(1, 6))
def test_whatever_clocks_do_nothing_goes_that_the_ladder_keeps_under_true_time(
    story: list[tuple[timedelta | None, int]], apart: bool, pause: int
) -> None:
    world = World(off_database=timedelta() if apart else None)
    for number in range(30):  # a month in which all is well
        world.true += DAY
        world.take()
        for _ in range(2):
            world.tend()
        world.sweep()
        del number
    for off, takes in story:
        world.true += pause * HOUR
        if off is not None:
            world.off = off
        for _ in range(takes):
            world.take()
            world.true += 3 * MINUTE
        world.tend()
        world.sweep()


def test_while_clocks_are_right_backups_do_go() -> None:
    world = World()
    for _ in range(60):
        for _ in range(24):
            world.true += HOUR
            world.tend()
        world.take()
        world.sweep()
    assert len(world.removed) > 20
    assert {backup.id for backup in world.held if backup.marked is None} >= {
        f"b{number}" for number in (60, 59)
    }
