"""Why the receiving end refuses something, before a protocol says it in its own way; and what no
client may do, whatever it is here for.
"""

from __future__ import annotations

from typing import Literal, NoReturn

import asyncssh

Why = Literal["exists", "missing", "busy", "full", "denied", "name"]


class PushRefused(Exception):
    """Says nothing that the client did not know: it may be anybody's."""

    def __init__(self, why: Why, said: str) -> None:
        super().__init__(said)
        self.why, self.said = why, said


def in_sftp(refused: PushRefused) -> asyncssh.SFTPError:
    """In words of SFTP version 3, which every client knows."""
    match refused.why:
        case "missing":
            return asyncssh.SFTPNoSuchFile(refused.said)
        case "denied":
            return asyncssh.SFTPPermissionDenied(refused.said)
        case _:
            return asyncssh.SFTPFailure(refused.said)


class ClosedSession(asyncssh.SFTPServer):
    """What no client of the SFTP server may do."""

    def open56(
        self, path: bytes, desired_access: int, flags: int, attrs: asyncssh.SFTPAttrs
    ) -> NoReturn:
        raise asyncssh.SFTPOpUnsupported("Use SFTP version 3 or 4.")

    def rmdir(self, path: bytes) -> NoReturn:
        raise asyncssh.SFTPPermissionDenied("Folders cannot be removed here.")

    def symlink(self, oldpath: bytes, newpath: bytes) -> NoReturn:
        raise asyncssh.SFTPPermissionDenied("There are no links here.")

    def link(self, oldpath: bytes, newpath: bytes) -> NoReturn:
        raise asyncssh.SFTPPermissionDenied("There are no links here.")

    def readlink(self, path: bytes) -> NoReturn:
        raise asyncssh.SFTPPermissionDenied("There are no links here.")

    def statvfs(self, path: bytes) -> NoReturn:
        raise asyncssh.SFTPOpUnsupported("The room is not told.")

    def fstatvfs(self, file_obj: object) -> NoReturn:
        raise asyncssh.SFTPOpUnsupported("The room is not told.")

    def lock(self, file_obj: object, offset: int, length: int, flags: int) -> NoReturn:
        raise asyncssh.SFTPOpUnsupported("There are no locks here.")

    def unlock(self, file_obj: object, offset: int, length: int) -> NoReturn:
        raise asyncssh.SFTPOpUnsupported("There are no locks here.")
