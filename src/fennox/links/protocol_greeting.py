"""Detecting the protocol at an address: an SSH server speaks first (RFC 4253 §4.2), a TLS server
waits.
"""

from __future__ import annotations

import asyncio
from contextlib import AsyncExitStack

from fennox.core.errors import Unreachable
from fennox.links.base import Address, Dial
from fennox.links.dialling import opened

_LONGEST_GREETING = 8 * 1024  # bytes before the line with the version
_SILENCE = 3.0  # seconds to wait for a greeting


async def greets_as_ssh(address: Address, dial: Dial | None = None, limit: float = 10) -> bool:
    """Whether an SSH server listens there. Sends nothing."""
    async with AsyncExitStack() as stack:
        try:
            async with asyncio.timeout(limit):
                reader, _ = await stack.enter_async_context(opened(address, dial))
        except (OSError, TimeoutError) as error:
            reason = "no answer" if isinstance(error, TimeoutError) else "nobody listens there"
            raise Unreachable(
                f"{address} cannot be reached: {reason}.", "Check address, port and network."
            ) from error
        return await _heard_ssh(reader)


async def _heard_ssh(reader: asyncio.StreamReader) -> bool:
    heard = b""
    try:
        async with asyncio.timeout(_SILENCE):
            while len(heard) < _LONGEST_GREETING and (block := await reader.read(1024)):
                heard += block
                if any(line.startswith(b"SSH-") for line in heard.splitlines()):
                    return True
    except (TimeoutError, OSError):
        return False
    return False
