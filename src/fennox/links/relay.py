"""Relaying one connection's bytes as messages of another, both ways."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable

_BLOCK = 128 * 1024  # bytes


async def relay(
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
    receive: Callable[[], Awaitable[bytes | None]],
    send: Callable[[bytes], Awaitable[None]],
) -> None:
    """Runs until either side ends; bytes sent before that still arrive. ``receive`` returns the
    next message, None at the end; ``send`` returns when the other side accepts more. A broken
    connection counts as an end: the protocol above detects missing data.
    """

    async def outwards() -> None:
        while block := await reader.read(_BLOCK):
            await send(block)

    async def inwards() -> None:
        while (block := await receive()) is not None:
            writer.write(block)
            await writer.drain()

    tasks = [asyncio.create_task(outwards()), asyncio.create_task(inwards())]
    try:
        ended, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        for task in ended:
            with contextlib.suppress(OSError):
                task.result()
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        writer.close()
        with contextlib.suppress(OSError):
            await writer.wait_closed()
