"""A client at the SFTP server that fetches what a restore offers it. It reads, and nothing else."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from datetime import datetime
from typing import NoReturn

import asyncssh
from asyncssh.constants import (
    FILEXFER_TYPE_DIRECTORY,
    FILEXFER_TYPE_REGULAR,
    FXF_APPEND,
    FXF_CREAT,
    FXF_TRUNC,
    FXF_WRITE,
)

from fennox.core.errors import Damaged
from fennox.drop.names import absolute
from fennox.drop.offers import Offer, OfferedFile
from fennox.drop.refusals import ClosedSession, PushRefused, in_sftp

_SAY_EVERY = 0.5  # seconds
_CHANGES = FXF_WRITE | FXF_APPEND | FXF_CREAT | FXF_TRUNC


class OfferSession(ClosedSession):
    """One client at one offer."""

    def __init__(self, channel: asyncssh.SSHServerChannel[bytes], offer: Offer) -> None:
        super().__init__(channel)
        self._offer = offer
        self._said = 0.0

    def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs) -> object:
        if pflags & _CHANGES:
            _denied()
        if (file := self._offer.file(_named(path))) is None:
            raise asyncssh.SFTPNoSuchFile("There is no such file.")
        return file

    async def read(self, file_obj: object, offset: int, size: int) -> bytes:
        file = _offered(file_obj)
        try:
            block = await asyncio.to_thread(self._offer.read, file.name, offset, size)
        except PushRefused as refused:
            raise in_sftp(refused) from refused
        except (Damaged, OSError) as error:
            self.logger.warning("%s: %s", file.name, error)
            raise asyncssh.SFTPFailure("It cannot be read.") from error
        if time.monotonic() - self._said >= _SAY_EVERY or offset + len(block) >= file.size:
            self._said = time.monotonic()
            await asyncio.to_thread(self._offer.say_what_was_read)
        return block

    def close(self, file_obj: object) -> None:
        self._offer.say_what_was_read()

    def lstat(self, path: bytes) -> asyncssh.SFTPAttrs:
        name = _named(path)
        if (file := self._offer.file(name)) is not None:
            return self._file(file)
        if self._offer.is_folder(name):
            return self._folder()
        raise asyncssh.SFTPNoSuchFile("There is no such file.")

    def stat(self, path: bytes) -> asyncssh.SFTPAttrs:
        return self.lstat(path)

    def fstat(self, file_obj: object) -> asyncssh.SFTPAttrs:
        return self._file(_offered(file_obj))

    async def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        try:
            folders, files = self._offer.entries(_named(path))
        except PushRefused as refused:
            raise in_sftp(refused) from refused
        for name in (".", "..", *folders):
            yield asyncssh.SFTPName(name.encode(), attrs=self._folder())
        for file in files:
            yield asyncssh.SFTPName(file.name.rsplit("/", 1)[1].encode(), attrs=self._file(file))

    def realpath(self, path: bytes) -> bytes:
        return _named(path).encode()

    def _file(self, file: OfferedFile) -> asyncssh.SFTPAttrs:
        return _attributes(
            FILEXFER_TYPE_REGULAR, 0o100400, self._offer.offers.now(), size=file.size
        )

    def _folder(self) -> asyncssh.SFTPAttrs:
        return _attributes(FILEXFER_TYPE_DIRECTORY, 0o40500, self._offer.offers.now())

    # what it may not do

    def write(self, file_obj: object, offset: int, data: bytes) -> NoReturn:
        _denied()

    def setstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> NoReturn:
        _denied()

    def lsetstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> NoReturn:
        _denied()

    def fsetstat(self, file_obj: object, attrs: asyncssh.SFTPAttrs) -> NoReturn:
        _denied()

    def mkdir(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> NoReturn:
        _denied()

    def rename(self, oldpath: bytes, newpath: bytes) -> NoReturn:
        _denied()

    def posix_rename(self, oldpath: bytes, newpath: bytes) -> NoReturn:
        _denied()

    def remove(self, path: bytes) -> NoReturn:
        _denied()


def _denied() -> NoReturn:
    raise asyncssh.SFTPPermissionDenied("Here is only something to fetch.")


def _offered(file_obj: object) -> OfferedFile:
    assert isinstance(file_obj, OfferedFile)
    return file_obj


def _named(path: bytes) -> str:
    try:
        return absolute(path)
    except PushRefused as refused:
        raise in_sftp(refused) from refused


def _attributes(type_: int, mode: int, at: datetime, size: int | None = None) -> asyncssh.SFTPAttrs:
    moment = int(at.timestamp())
    return asyncssh.SFTPAttrs(
        type=type_, size=size, uid=0, gid=0, permissions=mode, atime=moment, mtime=moment
    )
