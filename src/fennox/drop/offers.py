"""Documents that a restore lays out for a system that fetches them: read-only, under an account
that is good for one step.

Each offer is a folder beside the spool: a note (``offer.json``), and its files sealed under a key
of its own. The note is the only record; an account is good while it is there and has not run out.
"""

from __future__ import annotations

import os
import secrets
import shutil
import threading
import time
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from fennox.core.time import Aware
from fennox.drop import sealed_file
from fennox.drop.logins import DropLogin, digest_of
from fennox.drop.names import cleaned
from fennox.drop.refusals import PushRefused
from fennox.drop.spool import Limits, Seals

PREFIX = "offer_"
"""Accounts of offers begin so. Those of systems cannot: their names have no such sign."""
_NOTE = "offer.json"
_UNFINISHED = 3600.0  # seconds for which a folder without a note may be one that is being made


class OfferedFile(BaseModel):
    """``name``: with a slash before it. ``size`` in bytes."""

    model_config = ConfigDict(extra="forbid")

    name: str
    size: int


class OfferNote(BaseModel):
    """``secret``: SHA-256 as hex. ``key``: sealed, as hex."""

    model_config = ConfigDict(extra="forbid")

    id: str
    system: str
    secret: str
    until: Aware
    key: str
    files: list[OfferedFile] = []


@dataclass
class Offers:
    """The folder of all offers."""

    root: Path
    seals: Seals
    now: Callable[[], datetime]
    limits: Limits = field(default_factory=Limits)

    def make(self, system: str, lasts: timedelta) -> tuple[Offer, str]:
        """An offer without files, and the secret of its account."""
        id_, secret = secrets.token_hex(6), secrets.token_urlsafe(20)  # 160 bits
        sealed = self.seals.seal(secrets.token_bytes(32), _place(id_))
        note = OfferNote(
            id=id_,
            system=system,
            secret=digest_of(secret),
            until=self.now() + lasts,
            key=sealed.hex(),
        )
        offer = Offer(self, note)
        offer.folder.mkdir(mode=0o700, parents=True)
        offer.keep()
        return offer, secret

    def login(self, account: str) -> DropLogin | None:
        """The login of an offer that still stands."""
        note = self._note(account.removeprefix(PREFIX)) if account.startswith(PREFIX) else None
        if note is None or note.until <= self.now():
            return None
        return DropLogin(account, note.system, note.secret, offer=note.id)

    def offer(self, id_: str) -> Offer | None:
        """None: it has ended."""
        note = self._note(id_)
        return None if note is None or note.until <= self.now() else Offer(self, note)

    def sweep(self) -> None:
        """Remove those that have run out, and what whoever made or ended one left half done."""
        for folder in self.root.iterdir() if self.root.is_dir() else ():
            note = self._note(folder.name)
            if note is not None and note.until <= self.now():
                Offer(self, note).end()
            elif note is None and time.time() - _changed(folder) > _UNFINISHED:
                shutil.rmtree(folder, ignore_errors=True)

    def _note(self, id_: str) -> OfferNote | None:
        if not id_.isalnum():
            return None
        with suppress(FileNotFoundError):
            return OfferNote.model_validate_json((self.root / id_ / _NOTE).read_bytes())
        return None


@dataclass
class Offer:
    """One of them, to fill or to read. Threads may read it together."""

    offers: Offers
    note: OfferNote
    _key: bytes | None = None
    _read: dict[int, int] = field(default_factory=dict)  # by the number of the file
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def folder(self) -> Path:
        return self.offers.root / self.note.id

    @property
    def account(self) -> str:
        return PREFIX + self.note.id

    @property
    def size(self) -> int:
        return sum(file.size for file in self.note.files)

    def keep(self) -> None:
        fresh = self.folder / f"{_NOTE}.new"
        fresh.write_text(self.note.model_dump_json())
        os.replace(fresh, self.folder / _NOTE)

    async def add(self, name: str, content: AsyncIterator[bytes]) -> None:
        """Lay out a file. Raises PushRefused if the disk is too full for it."""
        number, limits = len(self.note.files), self.offers.limits
        sealed = sealed_file.SealedFile(self._data(number), self.key())
        try:
            async for block in content:
                sealed.append(block)
                if shutil.disk_usage(self.folder).free < limits.free:
                    raise PushRefused("full", "The receiving end's disk is full.")
        finally:
            sealed.close()
        self.note.files.append(OfferedFile(name=cleaned(name), size=sealed.size))
        self.keep()

    def file(self, name: str) -> OfferedFile | None:
        return next((file for file in self.note.files if file.name == name), None)

    def is_folder(self, name: str) -> bool:
        inside = name.rstrip("/") + "/"
        return name == "/" or any(file.name.startswith(inside) for file in self.note.files)

    def entries(self, name: str) -> tuple[list[str], list[OfferedFile]]:
        """Names of the folders, and the files, right in a folder. Raises PushRefused."""
        if not self.is_folder(name):
            raise PushRefused("missing", f"There is no folder {name}.")
        inside = name.rstrip("/") + "/"
        below = [file for file in self.note.files if file.name.startswith(inside)]
        rests = {file.name[len(inside) :]: file for file in below}
        folders = {rest.split("/")[0] for rest in rests if "/" in rest}
        return sorted(folders), [file for rest, file in rests.items() if "/" not in rest]

    def read(self, name: str, offset: int, size: int) -> bytes:
        """Raises PushRefused for what is not offered, or no more."""
        file = self.file(name)
        if file is None or not (self.folder / _NOTE).exists():
            raise PushRefused("missing", f"There is no {name}.")
        number = self.note.files.index(file)
        block = sealed_file.read_at(self._data(number), self.key(), offset, size)
        with self._lock:
            self._read[number] = max(self._read.get(number, 0), offset + len(block))
        return block

    def say_what_was_read(self) -> None:
        """For the process that waits until it is."""
        with self._lock, suppress(FileNotFoundError):  # it has ended
            for number, end in self._read.items():
                fresh = self.folder / f"{number}.read.new"
                fresh.write_text(str(end))
                os.replace(fresh, self.folder / f"{number}.read")

    def was_read(self) -> int:
        """Bytes, as far as the receiving end has said."""
        total = 0
        for number in range(len(self.note.files)):
            with suppress(FileNotFoundError):
                total += int((self.folder / f"{number}.read").read_text())
        return total

    def end(self) -> None:
        """The note first: from then on nobody comes in."""
        (self.folder / _NOTE).unlink(missing_ok=True)
        shutil.rmtree(self.folder, ignore_errors=True)

    def key(self) -> bytes:
        if self._key is None:
            self._key = self.offers.seals.open(bytes.fromhex(self.note.key), _place(self.note.id))
        return self._key

    def _data(self, number: int) -> Path:
        return self.folder / f"{number}.data"


def _changed(folder: Path) -> float:
    """When, in seconds since 1970; now, if it has gone meanwhile."""
    try:
        return folder.stat().st_mtime
    except FileNotFoundError:
        return time.time()


def _place(id_: str) -> str:
    return f"offer|{id_}|key"
