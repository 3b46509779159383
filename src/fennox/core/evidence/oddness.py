"""Whether a take is unlike those before it. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

LOOKED_AT = 10  # earlier takes
_LEAST = 5  # earlier takes needed before anything is reported
_FACTOR = 2
_SECONDS, _BYTES = 60.0, 1_000_000  # smaller differences are not reported


@dataclass(frozen=True)
class DoneTake:
    """How long a take lasted and how much it read."""

    seconds: float
    bytes: int


def oddness(now: DoneTake, earlier: Sequence[DoneTake]) -> str:
    """A sentence; empty if the take is like the others. Compared with the longest and the shortest
    rather than the median, because a weekly full read is normal.
    """
    if len(earlier) < _LEAST:
        return ""
    seconds, sizes = [done.seconds for done in earlier], [done.bytes for done in earlier]
    said = []
    if _far(now.seconds, seconds, _SECONDS):
        low, high = _ends(seconds)
        said.append(
            f"it took {_span(now.seconds)}, the last {len(earlier)} took {_span(low)} to"
            f" {_span(high)}"
        )
    if _far(now.bytes, sizes, _BYTES):
        low, high = _ends(sizes)
        said.append(
            f"it read {_size(now.bytes)}, the last {len(earlier)} read {_size(low)} to"
            f" {_size(high)}"
        )
    return "; ".join(said)


def _far(now: float, earlier: Sequence[float], least: float) -> bool:
    low, high = _ends(earlier)
    above = now > high * _FACTOR and now - high > least
    return above or (now < low / _FACTOR and low - now > least)


def _ends(values: Sequence[float]) -> tuple[float, float]:
    return min(values), max(values)


def _span(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 120 else f"{seconds / 60:.0f} min"


def _size(count: float) -> str:
    return f"{count / 1e6:.1f} MB" if count < 1e9 else f"{count / 1e9:.1f} GB"
