"""When a push is whole, by its kind's rule."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from fennox.core.evidence.pushes import Arrival, Lacking, StillComing, Whole, judge, told_by
from fennox.core.kinds.pushes import Manifest, Push

NOW = datetime(2026, 12, 1, 3, 0, tzinfo=UTC)
LISTED = Manifest(file="MANIFEST", names=r"^\w+  (\S+)$", digests=r"^(\w+)  ")
PUSH = Push(files=["a.cfg", "*.bin"], perhaps=["notes"], every=24, quiet=60, manifest=LISTED)


def arrived(name: str, ago: float = 100, *, problem: str = "", open_: bool = False) -> Arrival:
    at = NOW - timedelta(seconds=ago)
    ended = None if problem or open_ else at
    return Arrival(id=name, name=name, size=1, begun=at, ended=ended, problem=problem)


ALL = [arrived("a.cfg"), arrived("b.bin"), arrived("MANIFEST")]
TOLD = told_by(PUSH, "# of tonight\nab12  a.cfg\ncd34  ./b.bin\n")


def test_all_of_it_is_whole_once_it_is_quiet() -> None:
    judged = judge(PUSH, [*ALL, arrived("other")], TOLD, NOW)
    assert isinstance(judged, Whole)
    assert [one.name for one in judged.arrivals] == ["MANIFEST", "a.cfg", "b.bin"]
    assert TOLD.digests == {"a.cfg": "ab12", "b.bin": "cd34"}


def test_nothing_of_it_is_nothing() -> None:
    assert judge(PUSH, [arrived("other")], None, NOW) is None


def test_it_waits_while_something_arrives_or_has_just_arrived() -> None:
    late = judge(PUSH, [*ALL, arrived("notes", 10)], TOLD, NOW)
    assert late == StillComing(NOW + timedelta(seconds=50))
    assert judge(PUSH, [*ALL, arrived("notes", open_=True)], TOLD, NOW) == StillComing(None)


def test_what_lacks_is_said() -> None:
    judged = judge(
        PUSH, [arrived("b.bin"), arrived("c.bin", problem="The line was cut.")], None, NOW
    )
    assert isinstance(judged, Lacking)
    assert judged.says == [
        "MANIFEST, which lists the others, has not arrived.",
        "Nothing has arrived that fits a.cfg.",
        "c.bin broke off: The line was cut.",
    ]
    told = told_by(PUSH, "ab12  a.cfg\nef56  c.bin\n")
    assert isinstance(judged := judge(PUSH, ALL, told, NOW), Lacking)
    assert judged.says == ["c.bin is listed, and has not arrived."]
    assert isinstance(judged := judge(PUSH, ALL, told_by(PUSH, "nothing"), NOW), Lacking)
    assert judged.says == ["MANIFEST lists nothing."]


def test_a_number_of_files_is_held_to() -> None:
    push = PUSH.model_copy(update={"manifest": None, "count": 2})
    assert isinstance(judge(push, ALL[:2], None, NOW), Whole)
    judged = judge(push, [*ALL[:2], arrived("c.bin")], None, NOW)
    assert isinstance(judged, Lacking)
    assert judged.says == ["It should be 2 files, and 3 have arrived."]


def test_what_a_clock_that_was_ahead_dated_is_not_waited_for_until_then() -> None:
    """A clock that went back a day would have left a push in the spool for that day."""
    ahead = [
        Arrival(one.id, one.name, 1, NOW + timedelta(days=1), NOW + timedelta(days=1))
        for one in ALL
    ]
    assert isinstance(judge(PUSH, ahead, TOLD, NOW), Whole)
