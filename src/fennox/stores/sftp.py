"""An SFTP server as a store (version 3 of the protocol, with OpenSSH's extensions where they are),
by asyncssh.
"""

from __future__ import annotations

import asyncio
import contextlib
import stat as modes
from dataclasses import dataclass
from datetime import UTC, datetime

import asyncssh

from fennox.core.errors import FennoxError, NoRoom, StoreUnusable, Unreachable
from fennox.core.names import ObjectName, printable
from fennox.links.base import Credential
from fennox.links.secure_shell.ssh_connection import open_connection
from fennox.stores.addresses import StoreAddress
from fennox.stores.base import (
    TEMPORARY_PREFIX,
    Abilities,
    Entry,
    FoundObject,
    Keep,
    Space,
    Span,
    temporary_name,
)
from fennox.stores.remote import RemoteStore, cut_short, missing, taken


@dataclass
class _SftpSession:
    connection: asyncssh.SSHClientConnection
    sftp: asyncssh.SFTPClient

    async def close(self) -> None:
        self.connection.abort()
        with contextlib.suppress(OSError, asyncssh.Error):
            await self.connection.wait_closed()


class SftpStore(RemoteStore[_SftpSession]):
    """Objects are files; a put is a hidden file first, then a rename that never replaces.

    Object names are ASCII; names are read as Latin-1 so that any byte in a listing can be passed
    over.
    """

    abilities = Abilities(ranges=True, retention=False, space=True, exclusive=True)

    def __init__(self, address: StoreAddress, credential: Credential, key: str | None) -> None:
        super().__init__(address)
        self._credential = credential
        self._key = key

    async def _open(self) -> _SftpSession:
        connection, _ = await open_connection(self._address.machine, self._credential, self._key)
        try:
            return _SftpSession(
                connection, await connection.start_sftp_client(path_encoding="latin-1")
            )
        except BaseException:
            connection.abort()
            raise

    def _translated(self, error: Exception, doing: str) -> FennoxError | None:
        where = f"{self.address}: {printable(str(error))[:200]}"
        match error:
            case (
                asyncssh.SFTPConnectionLost()
                | asyncssh.SFTPNoConnection()
                | asyncssh.ChannelOpenError()
            ):
                return Unreachable(
                    f"Could not {doing}; the connection was cut. {where}.", "Try again."
                )
            case asyncssh.SFTPPermissionDenied() | asyncssh.SFTPWriteProtect():
                return StoreUnusable(
                    f"Not permitted to {doing}. {where}.", "Give the store's account that right."
                )
            case asyncssh.SFTPNoSuchFile() | asyncssh.SFTPNoSuchPath():
                return StoreUnusable(
                    f"Could not {doing}: the folder is not there. {where}.",
                    "Make it on the far side.",
                )
            case asyncssh.SFTPNoSpaceOnFilesystem() | asyncssh.SFTPQuotaExceeded():
                return NoRoom(
                    f"No room left to {doing}. {where}.", "Free space or choose another store."
                )
            case asyncssh.SFTPError():
                return StoreUnusable(
                    f"The far side failed to {doing}. {where}.", "Look at its log; test the store."
                )
            case OSError() | asyncssh.Error():
                return Unreachable(
                    f"Could not {doing}; the connection failed. {where}.", "Try again."
                )
        return None

    def _path(self, name: str) -> str:
        return f"{self._address.path}/{name}" if name else self._address.path or "/"

    async def _put(
        self, session: _SftpSession, name: ObjectName, data: bytes, retain_until: datetime | None
    ) -> None:
        folder, _, last = self._path(name).rpartition("/")
        temporary = f"{folder}/{temporary_name()}"
        try:
            try:
                file = await session.sftp.open(temporary, "xb")
            except asyncssh.SFTPNoSuchFile:
                await self._make_parents(session, name)
                file = await session.sftp.open(temporary, "xb")
            async with file:
                await file.write(data)
                with contextlib.suppress(asyncssh.SFTPOpUnsupported):
                    await file.fsync()
            await self._publish(session, temporary, f"{folder}/{last}", name)
        except BaseException as error:
            full = isinstance(error, asyncssh.SFTPFailure) and await self._is_full(
                session, len(data)
            )
            with contextlib.suppress(OSError, asyncssh.Error, asyncio.CancelledError):
                await session.sftp.remove(temporary)
            if full:
                raise NoRoom(
                    f"No room left in {self.address}.", "Free space or choose another store."
                ) from error
            raise

    async def _publish(
        self, session: _SftpSession, temporary: str, path: str, name: ObjectName
    ) -> None:
        if await session.sftp.exists(path):
            raise taken(name)
        try:
            await session.sftp.rename(temporary, path)
        except asyncssh.SFTPFailure:  # version 3 offers no more
            if await session.sftp.exists(path):
                raise taken(name) from None
            raise

    async def _make_parents(self, session: _SftpSession, name: ObjectName) -> None:
        """Create folders inside the store; the store's own folder must exist, so that a lost mount
        is not filled.
        """
        if not await session.sftp.isdir(self._path("")):
            raise StoreUnusable(
                f"The folder of {self.address} is not there.", "Make or mount it on the far side."
            )
        at = self._path("")
        for step in name.split("/")[:-1]:
            at = f"{at}/{step}"
            if not await session.sftp.isdir(at):
                with contextlib.suppress(asyncssh.SFTPFailure, asyncssh.SFTPFileAlreadyExists):
                    await session.sftp.mkdir(at)

    async def _is_full(self, session: _SftpSession, needed: int) -> bool:
        try:
            space = await self._room(session)
        except (OSError, asyncssh.Error):
            return False
        return space is not None and space.free < needed + 65536

    async def _get(self, session: _SftpSession, name: ObjectName, span: Span | None) -> bytes:
        try:
            async with session.sftp.open(self._path(name), "rb") as file:
                start, length = (span.start, span.length) if span else (0, -1)
                data = _bytes(await file.read(length, start)) if length else b""
        except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            raise await self._absent(session, name) from None
        if span is not None and len(data) != span.length:
            raise cut_short(name, span)
        return data

    async def _absent(self, session: _SftpSession, name: ObjectName) -> FennoxError:
        if await session.sftp.isdir(self._path("")):
            return missing(name)
        return StoreUnusable(
            f"The folder of {self.address} is not there.", "Make or mount it on the far side."
        )

    async def _walk(self, session: _SftpSession, prefix: str, keep: Keep) -> list[FoundObject]:
        if not await session.sftp.isdir(self._path("")):
            raise StoreUnusable(
                f"The folder of {self.address} is not there.", "Make or mount it on the far side."
            )
        listed: list[FoundObject] = []
        folders = [prefix.rstrip("/")]
        while folders:
            folder = folders.pop()
            try:
                items = await session.sftp.readdir(self._path(folder))
            except asyncssh.SFTPNoSuchFile:
                continue  # a prefix under which nothing has been put yet
            for item in items:
                name = (
                    item.filename
                    if isinstance(item.filename, str)
                    else item.filename.decode("latin-1")
                )
                whole = f"{folder}/{name}" if folder else name
                mode = item.attrs.permissions or 0
                if modes.S_ISDIR(mode):
                    folders += [whole] if not name.startswith(TEMPORARY_PREFIX) else []
                elif modes.S_ISREG(mode):
                    listed += keep(whole, item.attrs.size or 0, _time(item.attrs.mtime))
        return listed

    async def _look(self, session: _SftpSession, name: ObjectName) -> FoundObject | None:
        try:
            attrs = await session.sftp.lstat(self._path(name))
        except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            return None
        if not modes.S_ISREG(attrs.permissions or 0):
            return None
        return FoundObject(name, attrs.size or 0, _time(attrs.mtime))

    async def _remove(self, session: _SftpSession, name: ObjectName) -> None:
        with contextlib.suppress(asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            await session.sftp.remove(self._path(name))

    async def _room(self, session: _SftpSession) -> Space | None:
        try:
            told = await session.sftp.statvfs(self._path(""))
        except asyncssh.SFTPOpUnsupported:
            return None
        return Space(told.bavail * told.frsize, told.blocks * told.frsize)

    async def _entries(self, session: _SftpSession, path: str) -> list[Entry]:
        items = await session.sftp.readdir(path or "/")
        return [
            Entry(
                printable(item.filename),
                modes.S_ISDIR(item.attrs.permissions or 0),
                item.attrs.size,
            )
            for item in items
            if item.filename not in (".", "..")
        ]

    async def _landed(self, session: _SftpSession) -> str:
        home = await session.sftp.realpath(".")
        return f"logged in as {self._credential.account}, at first in {printable(str(home))}"


def _bytes(data: bytes | str) -> bytes:
    return data if isinstance(data, bytes) else data.encode()


def _time(seconds: int | None) -> datetime | None:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)
