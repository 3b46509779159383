"""Numbers and nouns as people read them."""

from __future__ import annotations

import pytest

from fennox.core.words import a, counted, size


@pytest.mark.parametrize(
    ("count", "said"),
    [(0, "0 B"), (999, "999 B"), (1000, "1.0 kB"), (123_456, "123 kB"), (2_500_000_000, "2.5 GB")],
)
def test_sizes_are_decimal(count: int, said: str) -> None:
    assert size(count) == said


def test_one_is_one_and_an_operator_is_no_a_operator() -> None:
    assert [counted(number, "backup") for number in (0, 1, 2)] == [
        "0 backups",
        "1 backup",
        "2 backups",
    ]
    assert [a(role) for role in ("reader", "operator", "administrator")] == [
        "a reader",
        "an operator",
        "an administrator",
    ]
