"""What an anchor tells and a store lacks: found, unless a sweep list explains it."""

from __future__ import annotations

import secrets

from hypothesis import given
from hypothesis import strategies as st

from fennox.core.format import anchors
from fennox.core.format.anchors import Anchors, Present, SystemAnchor, digest_of, losses, ranges
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.format.sweeps import RemovedBackup, Sweep

SYSTEM, THEN, BEFORE, SINCE = "5" * 32, "20260301T120000Z", "20260228T120000Z", "20260302T120000Z"


def told(numbers: set[int], notes: dict[str, str], generation: int = 1) -> Anchors:
    names = [f"record {number}" for number in numbers]
    return Anchors(
        store="1" * 32,
        time=THEN,
        by="f" * 32,
        generation=generation,
        systems=[
            SystemAnchor(
                system=SYSTEM,
                name="web-9",
                folder="web-9-55555555",
                numbers=ranges(numbers),
                notes=len(notes),
                digest=digest_of([*names, *notes]),
            )
        ],
    )


def here(numbers: set[int], notes: dict[str, str]) -> dict[str, Present]:
    return {SYSTEM: Present(numbers, {f"record {number}" for number in numbers}, notes)}


def swept(
    numbers: set[int], notes: int = 0, *, time: str = SINCE, superseded: bool = False
) -> Sweep:
    removed = [
        RemovedBackup(
            name=f"systems/x/{number}.fxr",
            why="",
            system=SYSTEM,
            sequence=number,
            superseded=superseded,
            notes=notes,
        )
        for number in sorted(numbers)
    ]
    return Sweep(stage="removed", time=time, by="f" * 32, condemned=[], removed=removed)


def put(count: int, time: str = BEFORE) -> dict[str, str]:
    return {f"note {number} of {time}": time for number in range(count)}


@given(st.sets(st.integers(1, 60), min_size=1), st.data())
def test_numbers_that_are_gone_are_named_unless_a_sweep_explains_them(
    there: set[int], data: st.DataObject
) -> None:
    gone = data.draw(st.sets(st.sampled_from(sorted(there))))
    explained = data.draw(st.sets(st.sampled_from(sorted(there))))
    later = data.draw(st.sets(st.integers(61, 70)))
    found = losses(told(there, {}), here((there - gone) | later, {}), [swept(explained)], 1)
    assert [number for loss in found for number in loss.numbers] == sorted(gone - explained)


@given(st.integers(0, 9), st.integers(0, 9), st.integers(0, 9))
def test_notes_that_are_gone_are_counted_without_those_that_went_or_came_since(
    before: int, lost: int, since: int
) -> None:
    left = max(0, before - lost)
    found = losses(told({1}, put(before)), here({1}, put(left) | put(since, SINCE)), [], 1)
    assert sum(loss.notes for loss in found) == before - left
    assert (
        losses(told({1, 2}, put(before)), here({1}, put(left)), [swept({2}, before - left)], 1)
        == []
    )


def test_what_was_exchanged_is_found_while_nothing_else_happened() -> None:
    others = {f"another {number}": BEFORE for number in range(3)}
    [loss] = losses(told({1}, put(3)), here({1}, others), [], 1)
    assert (loss.exchanged, str(loss)) == (
        True,
        "the records and notes of web-9 are not those that were there",
    )
    assert losses(told({1}, put(3)), here({1}, others), [], 2) == [], (
        "new keys name everything anew"
    )
    assert losses(told({1}, put(3)), here({1, 2}, put(3)), [], 1) == [], "a backup has come since"


def test_a_record_that_was_sealed_anew_explains_no_gap() -> None:
    [loss] = losses(told({1, 2}, {}), here({1}, {}), [swept({2}, superseded=True)], 1)
    assert loss.numbers == [2]


def test_losses_are_told_in_words() -> None:
    numbers = losses(told({1, 2, 3, 5}, put(1)), here({1}, {}), [], 1)
    assert [str(loss) for loss in numbers] == [
        "records 2 to 3, 5 of web-9 and 1 note on backups of web-9 are gone, and no sweep removed"
        " them"
    ]
    one = losses(told({1, 2}, {}), here({1}, {}), [], 1)
    assert [str(loss) for loss in one] == ["record 2 of web-9 is gone, and no sweep removed it"]


def test_anchors_come_back_as_they_were_written() -> None:
    secret, made = WriteSecret(secrets.token_bytes(32), "2" * 32, 1), told({1, 2, 4}, put(2))
    data = anchors.encode(made, secret, "3" * 32, secrets.token_bytes(32))
    assert anchors.generation(data) == 1
    assert anchors.decode(data, secret, "3" * 32) == made
