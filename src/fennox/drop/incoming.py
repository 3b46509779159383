"""A file of the spool as it arrives."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Literal

from fennox.core.format.primitives.digest import Digest
from fennox.drop import sealed_file
from fennox.drop.refusals import PushRefused

if TYPE_CHECKING:
    from fennox.drop.spool import Jail, SpoolNote

_LOOK_AT_DISK = 8 * 1024 * 1024  # bytes written between two looks at the room that is left


class Incoming:
    """A file as it arrives. ``size``: where it ends now, in bytes."""

    def __init__(self, jail: Jail, note: SpoolNote) -> None:
        self._jail, self.note = jail, note
        self.closed = False
        jail.spool.live.add(note.id)
        self._since_look = 0
        self._digest: Digest | None = None
        path = jail.data(note)
        if note.in_clear:
            self._clear = path.open("r+b")
            self.size = path.stat().st_size
        else:
            self._sealed = sealed_file.SealedFile(path, jail.key(note))
            self.size = self._sealed.size
            self._digest = None if self.size else Digest()

    def write(self, offset: int, data: bytes) -> None:
        """Raises PushRefused when a bound is met; the file is broken then."""
        limits = self._jail.spool.limits
        if max(self.size, offset + len(data)) > limits.file:
            self._break("full", f"A file may have {limits.file} bytes.")
        self._since_look += len(data)
        if self._since_look >= _LOOK_AT_DISK:
            self._since_look = 0
            if self._jail.spool.free() < limits.free:
                self._break("full", "The receiving end's disk is full.")
            kept = sum(one.size for one in self._jail.notes() if one.id != self.note.id)
            if kept + self.size > limits.bytes:
                self._break("full", "The files that wait to be taken fill this system's share.")
        try:
            self._put(offset, data)
        except OSError as error:
            self._break("full", f"The receiving end could not write: {error.strerror}.")

    def _put(self, offset: int, data: bytes) -> None:
        if not self.note.in_clear and offset != self.size:
            self._turn_to_clear()
        if self.note.in_clear:
            self._clear.seek(offset)
            self._clear.write(data)
            self.size = max(self.size, offset + len(data))
            return
        self._sealed.append(data)
        if self._digest is not None:
            self._digest.update(data)
        self.size = self._sealed.size

    def _turn_to_clear(self) -> None:
        self._sealed.close()
        path = self._jail.data(self.note)
        clear = path.with_suffix(".clear")
        with open(os.open(clear, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600), "wb") as file:
            for block in sealed_file.blocks(path, self._jail.key(self.note)):
                file.write(block)
        os.replace(clear, path)
        self.note.in_clear, self._digest = True, None
        self._jail.keep(self.note)
        self._clear = path.open("r+b")

    def _break(self, why: Literal["full"], said: str) -> None:
        self.close(problem=said)
        raise PushRefused(why, said)

    def close(self, problem: str = "") -> None:
        """``problem``: why it did not arrive whole; empty: the client says it is whole.

        Raises PushRefused if its end could not be written; it is broken then.
        """
        if self.closed:
            return
        self.closed = True
        note, failed = self.note, ""
        try:
            self._close_content()
            note.size = self.size
        except OSError as error:
            failed = f"The receiving end could not write: {error.strerror}."
            note.size = self._jail.data(note).stat().st_size
        note.problem = problem or failed
        note.state, note.ended = "broken" if note.problem else "arrived", self._jail.spool.now()
        if not note.problem:
            note.digest = self._digest.hexdigest() if self._digest else self._read_digest()
        try:
            self._jail.keep(note)
        except OSError as error:  # the note still says that it is arriving, and nobody writes it
            failed = f"The receiving end could not write: {error.strerror}."
        finally:
            self._jail.spool.live.discard(note.id)
        if failed and not problem:
            raise PushRefused("full", failed)

    def _close_content(self) -> None:
        if not self.note.in_clear:
            self._sealed.close()
            return
        with self._clear:
            self._clear.flush()
            os.fsync(self._clear.fileno())

    def _read_digest(self) -> str:
        digest = Digest()
        for block in self._jail.blocks(self.note):
            digest.update(block)
        return digest.hexdigest()
