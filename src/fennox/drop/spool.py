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
from fennox.drop.incoming import Incoming
from fennox.drop.names import cleaned
from fennox.drop.refusals import PushRefused

_BLOCK = 256 * 1024  # bytes
_MOST_FOLDERS = 1000


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


class SpoolNote(BaseModel):
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

    def notes(self) -> list[SpoolNote]:
        """Every file, in the order in which they began to arrive."""
        found = []
        for path in sorted(self.folder.glob("*.json")) if self.folder.is_dir() else ():
            with suppress(FileNotFoundError):  # taken in this very moment
                found.append(SpoolNote.model_validate_json(path.read_bytes()))
        return sorted(found, key=lambda note: (note.begun, note.id))

    def note(self, name: str) -> SpoolNote | None:
        return next((note for note in self.notes() if note.name == name), None)

    def is_folder(self, name: str) -> bool:
        inside = name.rstrip("/") + "/"
        return name in self.folders or any(note.name.startswith(inside) for note in self.notes())

    def make_folder(self, name: str) -> None:
        """Folders are remembered for the session alone: a file brings its own."""
        name = cleaned(name)
        if self.note(name) is not None or self.is_folder(name):
            raise PushRefused("exists", f"{name} exists.")
        if len(self.folders) >= _MOST_FOLDERS:
            raise PushRefused("full", "No more folders are made in one session.")
        self.folders.add(name)

    def entries(self, name: str) -> tuple[list[str], list[SpoolNote]]:
        """Names of the folders, and the files, right in a folder."""
        if not self.is_folder(name):
            raise PushRefused("missing", f"There is no folder {name}.")
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

        Raises PushRefused: what has arrived is never written again.
        """
        name = cleaned(name)
        with self.spool.lock:
            there = self.note(name)
            if there is not None and there.id in self.spool.live:
                raise PushRefused("busy", f"{name} is being written by another connection.")
            if there is not None and there.state == "arrived" and there.size:
                raise PushRefused("exists", f"{name} has arrived already and is never overwritten.")
            if self.is_folder(name):
                raise PushRefused("exists", f"{name} is a folder.")
            self._must_have_room()
            if there is not None and (resume or not there.size):
                there.state, there.problem, there.ended = "arriving", "", None
                return Incoming(self, self.keep(there))
            if there is not None:
                self.remove(there)
            return Incoming(self, self.keep(self._new_note(name, account, peer)))

    def _new_note(self, name: str, account: str, peer: str) -> SpoolNote:
        id_ = secrets.token_hex(8)
        sealed = self.spool.seals.seal(secrets.token_bytes(32), self._place(id_))
        now = self.spool.now()
        return SpoolNote(id=id_, name=name, begun=now, account=account, peer=peer, key=sealed.hex())

    def _must_have_room(self) -> None:
        limits, notes = self.spool.limits, self.notes()
        if len(notes) >= limits.files:
            raise PushRefused("full", f"{len(notes)} files wait to be taken; no more are accepted.")
        if sum(note.size for note in notes) >= limits.bytes:
            raise PushRefused("full", "The files that wait to be taken fill this system's share.")
        if self.spool.free() < limits.free:
            raise PushRefused("full", "The receiving end's disk is full.")

    def rename(self, old: str, new: str) -> None:
        """Raises PushRefused; also for what has not arrived, or where something is already."""
        new = cleaned(new)
        with self.spool.lock:
            note = self.note(old)
            if note is None:
                raise PushRefused("missing", f"There is no {old}.")
            if note.state != "arrived":
                raise PushRefused("denied", f"{old} has not arrived whole.")
            if self.note(new) is not None or self.is_folder(new):
                raise PushRefused("exists", f"{new} exists.")
            note.name = new
            self.keep(note)

    def discard(self, name: str) -> None:
        """By the client: only what never arrived whole, or is empty."""
        with self.spool.lock:
            note = self.note(name)
            if note is None:
                raise PushRefused("missing", f"There is no {name}.")
            if note.id in self.spool.live or (note.state == "arrived" and note.size):
                raise PushRefused("denied", f"{name} cannot be deleted here.")
            self.remove(note)

    def remove(self, note: SpoolNote) -> None:
        """The note last, so that an interrupted removal is finished by the next one."""
        with self.spool.lock:
            self.data(note).unlink(missing_ok=True)
            (self.folder / f"{note.id}.json").unlink(missing_ok=True)
            with suppress(OSError):  # others lie there
                self.folder.rmdir()

    def keep(self, note: SpoolNote) -> SpoolNote:
        self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        path = self.folder / f"{note.id}.json"
        fresh = path.with_suffix(".new")
        fresh.write_text(note.model_dump_json())
        os.replace(fresh, path)
        return note

    def content(self, note: SpoolNote) -> Iterator[bytes]:
        """What has arrived. Raises ``Damaged`` if it is no longer what arrived."""
        digest, size = Digest(), 0
        for block in self.blocks(note):
            digest.update(block)
            size += len(block)
            yield block
        if (size, digest.hexdigest()) != (note.size, note.digest):
            raise Damaged(
                f"{note.name} in the spool is no longer what arrived.", "Have it pushed again."
            )

    def blocks(self, note: SpoolNote) -> Iterator[bytes]:
        """As :meth:`content`, unchecked."""
        if not note.in_clear:
            yield from sealed_file.blocks(self.data(note), self.key(note))
            return
        with self.data(note).open("rb") as file:
            while block := file.read(_BLOCK):
                yield block

    def data(self, note: SpoolNote) -> Path:
        return self.folder / f"{note.id}.data"

    def key(self, note: SpoolNote) -> bytes:
        return self.spool.seals.open(bytes.fromhex(note.key), self._place(note.id))

    def sealed_key(self, note: SpoolNote) -> bytes:
        """Its key, sealed again."""
        return self.spool.seals.seal(self.key(note), self._place(note.id))

    def _place(self, id_: str) -> str:
        return f"spool|{self.system}|{id_}|key"
