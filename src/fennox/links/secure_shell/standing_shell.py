"""A standing remote shell that waits for scripts, so that no shell is started for each question."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, AsyncIterator, Collection
from contextlib import asynccontextmanager

import asyncssh

from fennox.core.errors import Unreachable
from fennox.links.base import Running
from fennox.links.secure_shell.command_series import Errors, Series

COMMAND = "exec sh"
_BLOCK = 256 * 1024  # bytes


async def blocks_of(
    process: asyncssh.SSHClientProcess[bytes], cut: Unreachable
) -> AsyncGenerator[bytes, None]:
    """A process's output. ``cut``: the error if the connection ends first."""
    try:
        while block := await process.stdout.read(_BLOCK):
            yield block
    except (OSError, asyncssh.Error) as error:
        raise cut from error


class StandingShell:
    """One process of :data:`COMMAND`; it reads scripts one at a time, and is discarded if one is
    not read to its end.
    """

    def __init__(self, process: asyncssh.SSHClientProcess[bytes], cut: Unreachable) -> None:
        self._process = process
        self._cut = cut
        self._busy = False

    @property
    def waits(self) -> bool:
        return (
            not self._busy
            and self._process.exit_status is None
            and not self._process.stdout.at_eof()
        )

    @asynccontextmanager
    async def turn(
        self, script: str, mark: str, count: int, heard: Collection[int]
    ) -> AsyncIterator[AsyncIterator[Running]]:
        """The answers to a script with ``count`` questions
        (:func:`~fennox.links.secure_shell.command_series.script`).
        """
        self._busy = True
        errors = Errors(mark.encode())
        series = Series(blocks_of(self._process, self._cut), mark, errors, self._cut)
        hearing = asyncio.create_task(errors.read(self._process.stderr, len(heard)))
        try:
            self._process.stdin.write(f"{script}\n".encode("utf-8", "surrogateescape"))
            yield series.answers(count, heard)
        finally:
            if series.ended == count:
                await hearing
                self._busy = False
            else:
                self._process.close()
                hearing.cancel()
                await asyncio.gather(hearing, return_exceptions=True)
