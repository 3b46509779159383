"""Where content is cut: the library and our own code cut at the places that are written down
here.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fennox.core.format.header import Chunking
from fennox.core.format.primitives import cutting
from fennox.core.format.primitives.cutting import Sizes, points, pure_points

SMALL, LARGE = Chunking().small, Chunking().large


def stream(seed: str) -> bytes:
    """A megabyte and a half that has no pattern, or ends in one."""
    blocks = (hashlib.sha256(f"{seed} {number}".encode()).digest() for number in range(40_000))
    return b"".join(blocks) + b"quay;10.9.0.1;open\n" * 12_000 + bytes(70_000)


def lengths(found: Iterator[tuple[int, int]]) -> list[int]:
    return [length for _, length in found]


@pytest.mark.parametrize(
    ("sizes", "expected"),
    [
        (
            SMALL,
            [
                81693,
                100237,
                113287,
                72329,
                19345,
                28718,
                88492,
                61574,
                209928,
                171780,
                56366,
                71459,
                106067,
                262144,
                134581,
            ],
        ),
        (LARGE, [956281, 621719]),
    ],
)
def test_both_cut_where_it_is_written_down(sizes: Sizes, expected: list[int]) -> None:
    data = memoryview(stream("tide"))
    assert lengths(points(sizes)(data)) == expected
    assert lengths(pure_points(data, sizes)) == expected
    assert sum(expected) == len(data)


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 300_000), st.integers(0, 2**32), st.integers(1, 5))
def test_both_cut_alike_whatever_the_content(length: int, seed: int, alphabet: int) -> None:
    data = hashlib.shake_128(str(seed).encode()).digest(length)
    data = bytes(byte % alphabet for byte in data) if alphabet < 5 else data
    assert lengths(points(SMALL)(memoryview(data))) == lengths(pure_points(memoryview(data), SMALL))


def test_without_the_library_its_own_code_cuts(monkeypatch: pytest.MonkeyPatch) -> None:
    data = memoryview(stream("fog"))
    expected = lengths(points(SMALL)(data))
    monkeypatch.setattr(cutting, "pyfastcdc", None)
    assert lengths(points(SMALL)(data)) == expected
