"""The spool: what systems have pushed and no backup holds yet.

Each file has a note (``ID.json``) and its content (``ID.data``) in the folder of its system. Names
that a client gives stand in the note and never touch the file system, so nothing a client says can
lead out of its jail.
"""

from __future__ import annotations

import os
import secrets
import shutil
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Literal, Protocol

from pydantic import BaseModel, ConfigDict

from fennox.core.errors import Damaged
from fennox.core.format.primitives.digest import Digest
from fennox.core.time import Aware
from fennox.drop import sealed_file
from fennox.drop.names import cleaned
from fennox.drop.refusals import Refused

_BLOCK = 256 * 1024  # bytes
_LOOK_AT_DISK = 8 * 1024 * 1024  # bytes written between two looks at the room that is left


class Seals(Protocol):
    """Protects the keys of the spool's files; ``place`` binds a key to its file."""

    def seal(self, plain: bytes, place: str) -> bytes: ...

    def open(self, sealed: bytes, place: str) -> bytes: ...


@dataclass(frozen=True)
class Limits:
    """Of one system, but for ``free``: bytes that must stay free on the spool's disk."""

    file: int = 8 * 1024**3  # bytes
    bytes: int = 32 * 1024**3
    files: int = 500
    free: int = 512 * 1024**2


class Note(BaseModel):
    """What is known of one file. ``size`` in bytes. ``in_clear``: it was not written from its
    beginning to its end, so its content is not sealed. ``problem``: why it is broken.
    """

    model_config = ConfigDict(extra="forbid")

    id: str
    name: str
    state: Literal["arriving", "broken", "arrived"] = "arriving"
    begun: Aware
    ended: Aware | None = None
    size: int = 0
    digest: str = ""  # BLAKE2b-256 as hex
    in_clear: bool = False
    account: str
    peer: str
    problem: str = ""
    key: str  # sealed, as hex


class Spool:
    """The folder of all systems. Threads may share it."""

    def __init__(
        self, root: Path, seals: Seals, now: Callable[[], datetime], limits: Limits | None = None
    ) -> None:
        self.root, self.seals, self.now = root, seals, now
        self.limits = limits or Limits()
        self.lock = threading.RLock()
        self.live: set[str] = set()  # ids of files that this process is writing

    def systems(self) -> list[str]:
        """Ids of systems of which something lies here."""
        if not self.root.is_dir():
            return []
        return sorted(path.name for path in self.root.iterdir() if path.is_dir())

    def jail(self, system: str) -> Jail:
        return Jail(self, system)

    def free(self) -> int:
        """Bytes left on the disk."""
        self.root.mkdir(mode=0o700, parents=True, exist_ok=True)
        return shutil.disk_usage(self.root).free

    def seal_anew(self) -> int:
        """Seal the key of every file that has arrived under the newest key. Returns their number. A
        file that is arriving right now keeps its key until it is taken: an older key opens it.
        """
        count = 0
        for system in self.systems():
            jail = self.jail(system)
            for note in jail.notes():
                if note.state != "arriving":
                    jail.keep(note.model_copy(update={"key": jail.sealed_key(note).hex()}))
                    count += 1
        return count

    def recover(self) -> None:
        """At the start of the receiver: what was arriving when it ended last is broken."""
        for system in self.systems():
            jail = self.jail(system)
            for note in jail.notes():
                if note.state == "arriving":
                    incoming = Incoming(jail, note)
                    incoming.close(problem="The receiving end was stopped meanwhile.")


@dataclass
class Jail:
    """What one system's login may see and do."""

    spool: Spool
    system: str
    folders: set[str] = field(default_factory=lambda: {"/"})

    @property
    def folder(self) -> Path:
        return self.spool.root / self.system

    def notes(self) -> list[Note]:
        """Every file, in the order in which they began to arrive."""
        found = []
        for path in sorted(self.folder.glob("*.json")) if self.folder.is_dir() else ():
            with suppress(FileNotFoundError):  # taken in this very moment
                found.append(Note.model_validate_json(path.read_bytes()))
        return sorted(found, key=lambda note: (note.begun, note.id))

    def note(self, name: str) -> Note | None:
        return next((note for note in self.notes() if note.name == name), None)

    def is_folder(self, name: str) -> bool:
        inside = name.rstrip("/") + "/"
        return name in self.folders or any(note.name.startswith(inside) for note in self.notes())

    def make_folder(self, name: str) -> None:
        """Folders are remembered for the session alone: a file brings its own."""
        if self.note(name) is not None or self.is_folder(name):
            raise Refused("exists", f"{name} exists.")
        self.folders.add(name)

    def entries(self, name: str) -> tuple[list[str], list[Note]]:
        """Names of the folders, and the files, right in a folder."""
        if not self.is_folder(name):
            raise Refused("missing", f"There is no folder {name}.")
        inside = name.rstrip("/") + "/"
        below = [note for note in self.notes() if note.name.startswith(inside)]
        deeper = {
            one[len(inside) :].split("/")[0]
            for one in (*(note.name for note in below if "/" in note.name[len(inside) :]),)
        }
        deeper |= {
            one[len(inside) :].split("/")[0]
            for one in self.folders
            if one.startswith(inside) and one != name
        }
        return sorted(deeper), [note for note in below if "/" not in note.name[len(inside) :]]

    def begin(self, name: str, *, account: str, peer: str, resume: bool) -> Incoming:
        """Open a file for writing: a new one, or with ``resume`` one whose arrival broke off.

        Raises Refused: what has arrived is never written again.
        """
        name = cleaned(name)
        with self.spool.lock:
            there = self.note(name)
            if there is not None and there.id in self.spool.live:
                raise Refused("busy", f"{name} is being written by another connection.")
            if there is not None and there.state == "arrived" and there.size:
                raise Refused("exists", f"{name} has arrived already and is never overwritten.")
            if self.is_folder(name):
                raise Refused("exists", f"{name} is a folder.")
            self._must_have_room()
            if there is not None and (resume or not there.size):
                there.state, there.problem, there.ended = "arriving", "", None
                return Incoming(self, self.keep(there))
            if there is not None:
                self.remove(there)
            return Incoming(self, self.keep(self._new_note(name, account, peer)))

    def _new_note(self, name: str, account: str, peer: str) -> Note:
        id_ = secrets.token_hex(8)
        sealed = self.spool.seals.seal(secrets.token_bytes(32), self._place(id_))
        now = self.spool.now()
        return Note(id=id_, name=name, begun=now, account=account, peer=peer, key=sealed.hex())

    def _must_have_room(self) -> None:
        limits, notes = self.spool.limits, self.notes()
        if len(notes) >= limits.files:
            raise Refused("full", f"{len(notes)} files wait to be taken; no more are accepted.")
        if sum(note.size for note in notes) >= limits.bytes:
            raise Refused("full", "The files that wait to be taken fill this system's share.")
        if self.spool.free() < limits.free:
            raise Refused("full", "The receiving end's disk is full.")

    def rename(self, old: str, new: str) -> None:
        """Raises Refused; also for what has not arrived, or where something is already."""
        new = cleaned(new)
        with self.spool.lock:
            note = self.note(old)
            if note is None:
                raise Refused("missing", f"There is no {old}.")
            if note.state != "arrived":
                raise Refused("denied", f"{old} has not arrived whole.")
            if self.note(new) is not None or self.is_folder(new):
                raise Refused("exists", f"{new} exists.")
            note.name = new
            self.keep(note)

    def discard(self, name: str) -> None:
        """By the client: only what never arrived whole, or is empty."""
        with self.spool.lock:
            note = self.note(name)
            if note is None:
                raise Refused("missing", f"There is no {name}.")
            if note.id in self.spool.live or (note.state == "arrived" and note.size):
                raise Refused("denied", f"{name} cannot be deleted here.")
            self.remove(note)

    def remove(self, note: Note) -> None:
        """The note last, so that an interrupted removal is finished by the next one."""
        with self.spool.lock:
            self.data(note).unlink(missing_ok=True)
            (self.folder / f"{note.id}.json").unlink(missing_ok=True)
            with suppress(OSError):  # others lie there
                self.folder.rmdir()

    def keep(self, note: Note) -> Note:
        self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        path = self.folder / f"{note.id}.json"
        fresh = path.with_suffix(".new")
        fresh.write_text(note.model_dump_json())
        os.replace(fresh, path)
        return note

    def content(self, note: Note) -> Iterator[bytes]:
        """What has arrived. Raises ``Damaged`` if it is no longer what arrived."""
        digest, size = Digest(), 0
        for block in self._blocks(note):
            digest.update(block)
            size += len(block)
            yield block
        if (size, digest.hexdigest()) != (note.size, note.digest):
            raise Damaged(
                f"{note.name} in the spool is no longer what arrived.", "Have it pushed again."
            )

    def _blocks(self, note: Note) -> Iterator[bytes]:
        if not note.in_clear:
            yield from sealed_file.blocks(self.data(note), self.key(note))
            return
        with self.data(note).open("rb") as file:
            while block := file.read(_BLOCK):
                yield block

    def data(self, note: Note) -> Path:
        return self.folder / f"{note.id}.data"

    def key(self, note: Note) -> bytes:
        return self.spool.seals.open(bytes.fromhex(note.key), self._place(note.id))

    def sealed_key(self, note: Note) -> bytes:
        """Its key, sealed again."""
        return self.spool.seals.seal(self.key(note), self._place(note.id))

    def _place(self, id_: str) -> str:
        return f"spool|{self.system}|{id_}|key"


class Incoming:
    """A file as it arrives. ``size``: where it ends now, in bytes."""

    def __init__(self, jail: Jail, note: Note) -> None:
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
        """Raises Refused when a bound is met; the file is broken then."""
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
        raise Refused(why, said)

    def close(self, problem: str = "") -> None:
        """``problem``: why it did not arrive whole; empty: the client says it is whole.

        Raises Refused if its end could not be written; it is broken then.
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
            raise Refused("full", failed)

    def _close_content(self) -> None:
        if not self.note.in_clear:
            self._sealed.close()
            return
        with self._clear:
            self._clear.flush()
            os.fsync(self._clear.fileno())

    def _read_digest(self) -> str:
        digest = Digest()
        for block in self._jail._blocks(self.note):
            digest.update(block)
        return digest.hexdigest()
