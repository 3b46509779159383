"""What was sent is held against what the target says it read."""

from __future__ import annotations

from fractions import Fraction
from subprocess import run
from tarfile import RECORDSIZE

from hypothesis import given
from hypothesis import strategies as st

from fennox.engine.restoring import extraction


@given(st.integers(0, 10**12))
def test_whole_records_are_read(sent: int) -> None:
    read = extraction.as_read(sent)
    assert read % RECORDSIZE == 0
    assert 0 <= Fraction(read - sent, RECORDSIZE) < 1


def test_what_gnu_tar_says_is_understood() -> None:
    empty = bytes(1024)
    told = run(
        ["tar", "--totals", "-x", "-f", "-"],
        input=empty,
        capture_output=True,
        env={"LC_ALL": "C", "PATH": "/usr/bin:/bin"},
        check=True,
    ).stderr.decode()
    assert extraction.read_by_target(told) == extraction.as_read(len(empty))


def test_what_says_nothing_of_it_is_unknown() -> None:
    assert extraction.read_by_target("tar: etc: time stamp is in the future\n") is None
