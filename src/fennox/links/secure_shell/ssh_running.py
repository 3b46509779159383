"""A running remote command: input, output, and exit status."""

from __future__ import annotations

import asyncio
from collections.abc import (
    AsyncGenerator,
    AsyncIterator,
    Collection,
)

import asyncssh

from fennox.core.errors import Unreachable
from fennox.links.base import (
    Address,
    Output,
    Running,
)
from fennox.links.secure_shell.command_series import Errors, Series
from fennox.links.secure_shell.standing_shell import blocks_of


class SshRunning:
    def __init__(
        self,
        process: asyncssh.SSHClientProcess[bytes],
        address: Address,
        feeder: asyncio.Task[None],
        mark: str,
    ) -> None:
        self._process = process
        self._address = address
        self._feeder = feeder
        self._errors = Errors(mark.encode())
        self._hearing = asyncio.create_task(self._errors.read(process.stderr))
        self._mark = mark
        self.over = False  # nothing of it is running over there any more

    def blocks(self) -> AsyncGenerator[bytes, None]:
        return blocks_of(self._process, cut_off(self._address))

    async def ended(self) -> Output:
        errors = await self._errors.of(0)
        await self._process.wait_closed()
        code = self._process.exit_status
        if code is None:
            raise cut_off(self._address)
        self.over = True
        await self._feeder
        return Output(code, b"", errors)

    def answers(self, count: int, heard: Collection[int]) -> AsyncIterator[Running]:
        return Series(self.blocks(), self._mark, self._errors, cut_off(self._address)).answers(
            count, heard
        )

    def raise_if_not_fed(self) -> None:
        """Raise the error that kept its input from being read."""
        if self._feeder.done() and not self._feeder.cancelled():
            self._feeder.result()

    async def abandon(self) -> None:
        self._process.close()
        self._feeder.cancel()
        self._hearing.cancel()
        await asyncio.gather(self._feeder, self._hearing, return_exceptions=True)


async def feed_into(
    process: asyncssh.SSHClientProcess[bytes], first: bytes, feed: AsyncIterator[bytes] | None
) -> None:
    try:
        if first:
            process.stdin.write(first)
        if feed is not None:
            async for block in feed:
                process.stdin.write(block)
                await process.stdin.drain()
        process.stdin.write_eof()
    except (BrokenPipeError, ConnectionError, asyncssh.Error):
        return  # the command ended before reading everything; its exit code shows why
    except Exception:
        process.close()  # otherwise the command waits for the rest of its input
        raise


def cut_off(address: Address) -> Unreachable:
    return Unreachable(
        f"The connection to {address} was cut.",
        "Try again; check the machine if it happens again.",
    )
