"""Why the receiving end refuses something, before a protocol says it in its own way."""

from __future__ import annotations

from typing import Literal

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
