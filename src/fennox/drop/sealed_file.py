"""A file of the spool. What is written from its beginning to its end is sealed as it arrives; the
first write anywhere else turns it into a file in clear, since sealed blocks cannot be changed.

Layout of a sealed file: frames of a big-endian length (4 bytes) and AES-256-GCM (NIST SP 800-38D)
of at most 256 KiB. Every file has a key of its own, so a frame's number serves as nonce.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from fennox.core.errors import Damaged

FRAME = 256 * 1024  # bytes in clear
_LENGTH = struct.Struct(">I")
_MOST = FRAME + 16  # bytes of a sealed frame: RFC 5116, section 5.2


class SealedFile:
    """Frames in ``path`` under ``key``. ``size``: of what was written, in bytes."""

    def __init__(self, path: Path, key: bytes) -> None:
        """Opens the file to go on at its end; a frame that was cut off is removed."""
        self._cipher = AESGCM(key)
        self._frames, self.size, whole = 0, 0, 0
        self._file: BinaryIO = path.open("r+b" if path.exists() else "w+b")
        for block, end in _frames(self._file, self._cipher):
            self._frames, self.size, whole = self._frames + 1, self.size + len(block), end
        self._file.truncate(whole)
        self._file.seek(whole)
        self._rest = bytearray()

    def append(self, data: bytes) -> None:
        self._rest += data
        self.size += len(data)
        while len(self._rest) >= FRAME:
            self._put(bytes(self._rest[:FRAME]))
            del self._rest[:FRAME]

    def _put(self, block: bytes) -> None:
        sealed = self._cipher.encrypt(_nonce(self._frames), block, None)
        self._file.write(_LENGTH.pack(len(sealed)) + sealed)
        self._frames += 1

    def flush(self) -> None:
        """Everything written so far is in the file afterwards."""
        if self._rest:
            self._put(bytes(self._rest))
            self._rest.clear()
        self._file.flush()

    def close(self) -> None:
        with self._file:
            self.flush()
            os.fsync(self._file.fileno())


def blocks(path: Path, key: bytes) -> Iterator[bytes]:
    """The content in clear. Raises ``Damaged``."""
    with path.open("rb") as file:
        last = 0
        for block, end in _frames(file, AESGCM(key)):
            last = end
            yield block
        if last != path.stat().st_size:
            raise Damaged(f"The spool's file {path.name} is damaged.", "Have it pushed again.")


def read_at(path: Path, key: bytes, offset: int, size: int) -> bytes:
    """A piece of a file that was written in one go, so that every frame but the last is full; less
    than ``size`` at its end. Raises ``Damaged``.
    """
    cipher, piece = AESGCM(key), bytearray()
    with path.open("rb") as file:
        number, within = divmod(offset, FRAME)
        file.seek(number * (_LENGTH.size + _MOST))
        while len(piece) < size and (head := file.read(_LENGTH.size)):
            sealed = file.read(_LENGTH.unpack(head)[0]) if len(head) == _LENGTH.size else b""
            try:
                block = cipher.decrypt(_nonce(number), sealed, None)
            except (InvalidTag, ValueError) as error:
                raise Damaged(f"The file {path.name} is damaged.", "Begin anew.") from error
            piece += block[within : within + size - len(piece)]
            number, within = number + 1, 0
    return bytes(piece)


def _frames(file: BinaryIO, cipher: AESGCM) -> Iterator[tuple[bytes, int]]:
    """Each frame that opens, in clear, and where it ends; stops at the first that does not."""
    number, end = 0, 0
    while len(head := file.read(_LENGTH.size)) == _LENGTH.size:
        [length] = _LENGTH.unpack(head)
        sealed = file.read(length) if length <= _MOST else b""
        try:
            block = cipher.decrypt(_nonce(number), sealed, None)
        except (InvalidTag, ValueError):
            return
        number, end = number + 1, end + _LENGTH.size + length
        yield block, end


def _nonce(number: int) -> bytes:
    return number.to_bytes(12, "big")
