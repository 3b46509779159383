"""Files as pyftpdlib writes and lists them: names of a system's jail, and no paths."""

from __future__ import annotations

import errno
import os
import secrets
import stat
from typing import Any, NoReturn

import structlog
from pyftpdlib.filesystems import AbstractedFS, FilesystemError
from pyftpdlib.handlers import FTPHandler

from fennox.drop.incoming import Incoming
from fennox.drop.names import absolute
from fennox.drop.refusals import PushRefused
from fennox.drop.spool import Jail, SpoolNote

log: Any = structlog.get_logger()


class _Arriving:
    """A file as pyftpdlib writes it: like a file object, without a descriptor."""

    def __init__(self, incoming: Incoming, handler: FTPHandler, at: int) -> None:
        self._incoming, self._handler, self._at = incoming, handler, at
        self.name, self.closed = incoming.note.name, False

    def write(self, data: bytes) -> None:
        try:
            self._incoming.write(self._at, bytes(data))
        except PushRefused as refused:
            raise OSError(errno.ENOSPC, refused.said) from refused
        self._at += len(data)

    def seek(self, offset: int) -> None:
        self._at = offset

    def close(self) -> None:
        """It is whole if the data connection ended as FTP says that a file ends."""
        self.closed = True
        channel = self._handler.data_channel
        whole = channel is not None and channel.file_obj is self and channel.transfer_finished
        try:
            self._incoming.close("" if whole else "The connection ended within the file.")
        except PushRefused as refused:  # its note says so; the answer has been sent
            log.warning("push failed", name=self.name, reason=refused.said)


class JailedFiles(AbstractedFS):  # type: ignore[misc]
    """Names of the jail instead of paths."""

    jail: Jail  # set when somebody has signed in; nothing is asked for before

    def ftp2fs(self, ftppath: str) -> str:
        return self._named(self.ftpnorm(ftppath))

    def fs2ftp(self, fspath: str) -> str:
        return fspath

    def validpath(self, path: str) -> bool:
        return True

    def realpath(self, path: str) -> str:
        return self._named(path)

    def open(self, filename: str, mode: str) -> _Arriving:
        if "r" in mode and "+" not in mode:
            raise FilesystemError("Nothing can be read here")
        handler = self.cmd_channel
        try:
            incoming = self.jail.begin(
                filename,
                account=handler.username,
                peer=handler.remote_ip,
                resume="w" not in mode,
            )
        except PushRefused as refused:
            _refuse(refused)
        return _Arriving(incoming, handler, incoming.size if "a" in mode else 0)

    def mkstemp(
        self, suffix: str = "", prefix: str = "", dir: str = "/", mode: str = "wb"
    ) -> object:
        return self.open(self._named(f"{dir}/{prefix}{secrets.token_hex(4)}{suffix}"), mode)

    def chdir(self, path: str) -> None:
        if not self.jail.is_folder(path):
            raise FilesystemError("There is no such folder")
        self.cwd = path

    def mkdir(self, path: str) -> None:
        try:
            self.jail.make_folder(path)
        except PushRefused as refused:
            _refuse(refused)

    def listdir(self, path: str) -> list[str]:
        try:
            folders, notes = self.jail.entries(path)
        except PushRefused as refused:
            _refuse(refused)
        return [*folders, *(note.name.rsplit("/", 1)[1] for note in notes)]

    def rmdir(self, path: str) -> NoReturn:
        raise FilesystemError("Folders cannot be removed here")

    def remove(self, path: str) -> None:
        try:
            self.jail.discard(path)
        except PushRefused as refused:
            _refuse(refused)

    def rename(self, src: str, dst: str) -> None:
        try:
            self.jail.rename(src, dst)
        except PushRefused as refused:
            _refuse(refused)

    def chmod(self, path: str, mode: int) -> None:
        """Means nothing here."""

    def utime(self, path: str, timeval: float) -> None:
        """Means nothing here."""

    def stat(self, path: str) -> os.stat_result:
        if (note := self.jail.note(path)) is not None:
            return _stat(note)
        if self.jail.is_folder(path):
            return os.stat_result((stat.S_IFDIR | 0o700, 0, 0, 1, 0, 0, 0, 0, 0, 0))
        raise FileNotFoundError(errno.ENOENT, "There is no such file", path)

    lstat = stat

    def isfile(self, path: str) -> bool:
        return self.jail.note(path) is not None

    def islink(self, path: str) -> bool:
        return False

    def isdir(self, path: str) -> bool:
        return self.jail.is_folder(path)

    def lexists(self, path: str) -> bool:
        return self.isfile(path) or self.isdir(path)

    def getsize(self, path: str) -> int:
        return self.stat(path).st_size

    def getmtime(self, path: str) -> float:
        return self.stat(path).st_mtime

    def get_user_by_uid(self, uid: int) -> str:
        return "drop"

    def get_group_by_gid(self, gid: int) -> str:
        return "drop"

    def _named(self, path: str) -> str:
        try:
            return absolute(path)
        except PushRefused as refused:
            _refuse(refused)


def _stat(note: SpoolNote) -> os.stat_result:
    moment = int((note.ended or note.begun).timestamp())
    return os.stat_result((stat.S_IFREG | 0o600, 0, 0, 1, 0, 0, note.size, moment, moment, moment))


def _refuse(refused: PushRefused) -> NoReturn:
    raise FilesystemError(refused.said.rstrip(".")) from refused
