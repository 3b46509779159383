"""Numbers as people read them."""

from __future__ import annotations


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
