"""One small typed reader and writer for the binary parts of the format (§1.3): big-endian, nothing
left over.
"""

from __future__ import annotations

import struct

from fennox.core.errors import Damaged


class Reader:
    """Reads fields from bytes; reading past the end and bytes left over are both damage."""

    def __init__(self, data: bytes, what: str) -> None:
        self._data = data
        self._what = what
        self._at = 0

    def take(self, length: int) -> bytes:
        end = self._at + length
        if length < 0 or end > len(self._data):
            raise Damaged(
                f"The {self._what} is cut short: {length} bytes expected at {self._at},"
                f" {len(self._data)} in all.",
                "Heal it from another copy.",
            )
        piece = self._data[self._at : end]
        self._at = end
        return piece

    def u32(self) -> int:
        return int(struct.unpack(">I", self.take(4))[0])

    def blob(self, ceiling: int) -> bytes:
        """A length (u32) and that many bytes; a length over ``ceiling`` is damage, found before it
        is used.
        """
        length = self.u32()
        if length > ceiling:
            raise Damaged(
                f"The {self._what} claims a field of {length} bytes.", "Heal it from another copy."
            )
        return self.take(length)

    @property
    def position(self) -> int:
        return self._at

    def end(self) -> None:
        if self._at != len(self._data):
            raise Damaged(
                f"The {self._what} has {len(self._data) - self._at} bytes too many.",
                "Heal it from another copy.",
            )

    def magic(self, expected: bytes) -> None:
        found = self.take(len(expected))
        if found != expected:
            raise Damaged(
                f"The {self._what} begins with {found.hex()} where {expected.hex()} was expected.",
                "Heal it from another copy, or read it with a newer Fennox.",
            )


def u32(value: int) -> bytes:
    return struct.pack(">I", value)


def blob(data: bytes) -> bytes:
    return u32(len(data)) + data
