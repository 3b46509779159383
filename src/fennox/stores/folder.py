"""A folder as a store, including mounted shares and USB disks. Writes are atomic and synced to
disk.
"""

from __future__ import annotations

import asyncio
import errno
import getpass
import os
import shutil
import time
from collections.abc import AsyncIterator, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from math import inf
from pathlib import Path

from fennox.core.errors import (
    Conflict,
    Damaged,
    FennoxError,
    NoRoom,
    NotFound,
    StoreUnusable,
    TryLater,
)
from fennox.core.names import ObjectName, printable
from fennox.stores.base import (
    TEMPORARY_PREFIX,
    Abilities,
    Entry,
    FoundObject,
    Keep,
    Space,
    Span,
    found,
    temporary_name,
    unfinished,
)
from fennox.stores.mounts import mount_of

_LOOKED_WITHIN = 1.0  # seconds; with many concurrent takes, not each has to check the mount
_FULL = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG}
_READ = "read"
_FORBIDDEN = {errno.EACCES, errno.EPERM}
_NO_HARD_LINKS = {errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK}


class FolderStore:
    """Objects are files below ``root``, which must exist: a missing folder is never silently made
    again.

    ``mounted``: the identity of the mount that must hold it (None: any), so that a mount point is
    never filled.
    """

    abilities = Abilities(ranges=True, retention=False, space=True, exclusive=True)

    def __init__(self, root: Path, mounted: str | None = None) -> None:
        self._root = root
        self._mounted = mounted
        self._looked = -inf  # when the mount was last checked, by a monotonic clock

    @property
    def address(self) -> str:
        return str(self._root)

    lock: timedelta | None = None

    async def unfinished(self) -> Sequence[FoundObject]:
        return await asyncio.to_thread(lambda: list(self._walk("", unfinished)))

    async def locked_until(self, name: ObjectName) -> datetime | None:
        return None

    async def extend_lock(self, name: ObjectName, until: datetime) -> None:
        raise StoreUnusable("A folder cannot lock objects until a date.", "Use a store that can.")

    async def put(
        self, name: ObjectName, data: bytes, *, retain_until: datetime | None = None
    ) -> None:
        if retain_until is not None:
            raise StoreUnusable(
                "A folder cannot lock objects until a date.", "Use a store that can."
            )
        await asyncio.to_thread(self._put, name, data)

    async def get(self, name: ObjectName, span: Span | None = None) -> bytes:
        return await asyncio.to_thread(self._get, name, span)

    async def list(self, prefix: str) -> AsyncIterator[FoundObject]:
        for item in await asyncio.to_thread(lambda: list(self._walk(prefix))):
            yield item

    async def stat(self, name: ObjectName) -> FoundObject | None:
        return await asyncio.to_thread(self._stat, name)

    async def delete(self, name: ObjectName) -> None:
        await asyncio.to_thread(self._delete, name)

    async def space(self) -> Space | None:
        with self._errors("look at"):
            usage = await asyncio.to_thread(shutil.disk_usage, self._root)
        return Space(usage.free, usage.total)

    async def entries(self, path: str | None = None) -> Sequence[Entry]:
        return await asyncio.to_thread(self._entries, Path(path) if path else self._root)

    async def landed(self) -> str:
        mount = await asyncio.to_thread(mount_of, self._root)
        return f"as {getpass.getuser()} on this machine, in {self._root}" + (
            f" on {mount}" if mount else ""
        )

    async def close(self) -> None:
        return None  # nothing is kept open

    def _entries(self, folder: Path) -> Sequence[Entry]:
        with (
            self._errors("look into", str(folder) if folder != self._root else ""),
            os.scandir(folder) as items,
        ):
            return [
                Entry(
                    printable(item.name),
                    item.is_dir(),
                    None if item.is_dir() else item.stat(follow_symlinks=False).st_size,
                )
                for item in items
            ]

    def check_mount(self) -> None:
        """Refuse to use the folder while something else is mounted there than when it was
        accepted.
        """
        if self._mounted is None or time.monotonic() - self._looked < _LOOKED_WITHIN:
            return
        mount = mount_of(self._root)
        identity = mount.identity if mount else "nothing"
        if identity != self._mounted:
            raise StoreUnusable(
                f"{self._root} is on {identity}; the store is on {self._mounted}.",
                "Mount it; or, if the disk was replaced on purpose, accept the new one with `fennox"
                " store set`.",
                fingerprint=identity,
            )
        self._looked = time.monotonic()

    @contextmanager
    def _errors(self, doing: str, name: str = "") -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise self._translated(error, doing, name) from error

    def _translated(self, error: OSError, doing: str, name: str) -> FennoxError:
        where = f"{self._root}/{name}" if name else str(self._root)
        if not self._root.is_dir():
            return StoreUnusable(
                f"The folder {self._root} is not there.", "Mount or make it, then test the store."
            )
        if error.errno in _FULL:
            return NoRoom(
                f"No room left to {doing} {where}.", "Free space or choose another store."
            )
        if error.errno == errno.EROFS:
            return StoreUnusable(
                f"{self._root} is read-only: could not {doing} {where}.",
                "Mount it so that it can be written to.",
            )
        if error.errno in _FORBIDDEN:
            return StoreUnusable(
                f"Not permitted to {doing} {where}.", "Give the service's account that right."
            )
        if error.errno in (errno.ENOENT, errno.ENOTDIR, errno.EISDIR):
            return NotFound(
                f"{name or self._root} is not in the store.",
                "Look at what the store holds.",
                name=name,
            )
        # a bad sector stays bad, however often it is read
        if (doing, error.errno) == (
            _READ,
            errno.EIO,
        ):
            return Damaged(
                f"{name} cannot be read: {os.strerror(errno.EIO)}.", "Heal it from another copy."
            )
        return TryLater(
            f"Could not {doing} {where}: {os.strerror(error.errno or 0)}.", "Test the store."
        )

    def _put(self, name: ObjectName, data: bytes) -> None:
        path = self._root / name
        with self._errors("write", name):
            if not self._root.is_dir():
                raise FileNotFoundError(errno.ENOENT, "gone")
            self.check_mount()
            self._make_parents(path.parent)
            temporary = path.parent / temporary_name()
            try:
                with temporary.open("xb") as file:
                    file.write(data)
                    file.flush()
                    os.fsync(file.fileno())
                self._publish(temporary, path)
            finally:
                temporary.unlink(missing_ok=True)
            _sync_folder(path.parent)

    def _publish(self, temporary: Path, path: Path) -> None:
        """Give the finished file its name without ever replacing another."""
        try:
            os.link(temporary, path)
        except FileExistsError as error:
            raise Conflict(
                f"{path.name} is already in the store.", "It was left as it is."
            ) from error
        except OSError as error:
            if error.errno not in _NO_HARD_LINKS:
                raise
            if path.exists():
                raise Conflict(
                    f"{path.name} is already in the store.", "It was left as it is."
                ) from error
            temporary.rename(path)  # a file system without hard links

    def _make_parents(self, folder: Path) -> None:
        missing = []
        while folder != self._root and not folder.is_dir():
            missing.append(folder)
            folder = folder.parent
        for new in reversed(missing):
            new.mkdir(exist_ok=True)
            _sync_folder(new.parent)

    def _get(self, name: ObjectName, span: Span | None) -> bytes:
        with self._errors(_READ, name), (self._root / name).open("rb") as file:
            if span is None:
                return file.read()
            file.seek(span.start)
            data = file.read(span.length)
        if len(data) != span.length:
            raise Damaged(
                f"{name} ends before byte {span.start + span.length}.", "Heal it from another copy."
            )
        return data

    def _walk(self, prefix: str, keep: Keep = found) -> Iterator[FoundObject]:
        start = self._root / prefix
        if not self._root.is_dir():
            raise self._translated(OSError(errno.ENOENT, "gone"), "list", prefix)
        self.check_mount()
        if not start.is_dir():
            return
        with self._errors("list", prefix):
            root = os.path.join(self._root, "")
            for folder, folders, files in os.walk(start, onerror=_raise):
                folders[:] = sorted(
                    name for name in folders if not name.startswith(TEMPORARY_PREFIX)
                )
                for file in sorted(files):
                    yield from self._found(os.path.join(folder, file).removeprefix(root), keep)

    def _found(self, name: str, keep: Keep = found) -> Sequence[FoundObject]:
        try:
            status = os.lstat(os.path.join(self._root, name))
        except FileNotFoundError:
            return []  # removed between listing and stat
        return keep(name, status.st_size, datetime.fromtimestamp(status.st_mtime, UTC))

    def _stat(self, name: ObjectName) -> FoundObject | None:
        with self._errors("look at", name):
            if not self._root.is_dir():
                raise FileNotFoundError(errno.ENOENT, "gone")
            return next(iter(self._found(name)), None) if (self._root / name).is_file() else None

    def _delete(self, name: ObjectName) -> None:
        with self._errors("remove", name):
            path = self._root / name
            path.unlink(missing_ok=True)
            if path.parent.is_dir():
                _sync_folder(path.parent)


def _raise(error: OSError) -> None:
    raise error


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
