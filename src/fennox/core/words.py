"""Numbers and lists as people read them."""

from __future__ import annotations

from collections.abc import Sequence


def size(count: int) -> str:
    """Decimal units: 1 kB is 1,000 bytes."""
    amount = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if amount < 1000:
            return (
                f"{amount:.0f} {unit}" if unit == "B" or amount >= 100 else f"{amount:.1f} {unit}"
            )
        amount /= 1000
    return f"{amount:.1f} TB"


def counted(count: int, noun: str) -> str:
    """A number and what it counts: ``1 document``, ``3 documents``."""
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"


def a(noun: str) -> str:
    """``a reader``, ``an operator``."""
    return f"an {noun}" if noun[:1].lower() in "aeiou" else f"a {noun}"


def first_few(
    names: Sequence[str], most: int = 5, *, in_all: int | None = None, separator: str = ", "
) -> str:
    """``quay, pier and 3 more``. ``in_all``: how many there are, if ``names`` is only a part."""
    left = (len(names) if in_all is None else in_all) - len(names[:most])
    listed = separator.join(names[:most])
    return f"{listed} and {left} more" if left > 0 else listed
