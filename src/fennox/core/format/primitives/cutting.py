"""Cut points by FastCDC (Xia and others, IEEE TPDS 31.9, 2020), from a library or, without it, from
this module. Tests hold both to the same vectors: a writer that cut elsewhere would find none of a
store's chunks again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from hashlib import md5

try:
    import pyfastcdc
except ImportError:  # compiled for a few platforms only
    pyfastcdc = None  # type: ignore[assignment]

Sizes = tuple[int, int, int]
Points = Callable[[memoryview], Iterator[tuple[int, int]]]
"""Offset and length of each piece of a buffer."""

GEAR = [
    int.from_bytes(md5(bytes([byte]) * 64, usedforsecurity=False).digest()[:8], "big")
    for byte in range(256)
]
# by the average: up to it and beyond it (level 1 of normalisation: one bit more and one less)
_MASKS = {
    64 * 1024: (0x0000D90703537000, 0x0000D90F03530000),
    1024 * 1024: (0x0000D91767537000, 0x0000D91707537000),
}


def points(sizes: Sizes) -> Points:
    """``sizes``: smallest, average and largest piece, in bytes."""
    if pyfastcdc is None:
        return lambda data: pure_points(data, sizes)
    smallest, average, largest = sizes
    cutter = pyfastcdc.FastCDC(average, min_size=smallest, max_size=largest)
    return lambda data: ((piece.offset, piece.length) for piece in cutter.cut_buf(data))


def pure_points(data: memoryview, sizes: Sizes) -> Iterator[tuple[int, int]]:
    """As :func:`points`, in pure Python: about a second per megabyte."""
    offset = 0
    while offset < len(data):
        length = _length(data[offset : offset + sizes[2]], sizes)
        yield offset, length
        offset += length


def _length(data: memoryview, sizes: Sizes) -> int:
    smallest, average, _ = sizes
    if len(data) <= smallest:
        return len(data)
    strict, loose = _MASKS[average]
    middle, end, fingerprint = min(average, len(data)) // 2 * 2, len(data) // 2 * 2, 0
    for mask, first, last in ((strict, smallest // 2 * 2, middle), (loose, middle, end)):
        for position in range(first, last):
            fingerprint = ((fingerprint << 1) + GEAR[data[position]]) & 0xFFFF_FFFF_FFFF_FFFF
            if not fingerprint & mask:
                return position
    return len(data)
