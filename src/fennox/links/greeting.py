"""Which protocol answers at an address: an SSH server speaks first (RFC 4253 §4.2), a TLS server waits."""

from __future__ import annotations

import asyncio
import contextlib

from fennox.core.errors import Unreachable
from fennox.links.base import Address

_LONGEST_GREETING = 8 * 1024  # bytes before the line with the version
_SILENCE = 3.0  # seconds after which nobody is expected to speak first


async def greets_as_ssh(address: Address, limit: float = 10) -> bool:
    """Whether what listens there is an SSH server. Nothing is sent."""
    try:
        reader, writer = await asyncio.wait_for(asyncio.open_connection(address.host, address.port), limit)
    except (OSError, TimeoutError) as error:
        reason = "no answer" if isinstance(error, TimeoutError) else "nobody listens there"
        raise Unreachable(f"{address} cannot be reached: {reason}.", "Check address, port and network.") from error
    heard = b""
    try:
        async with asyncio.timeout(_SILENCE):
            while len(heard) < _LONGEST_GREETING and (block := await reader.read(1024)):
                heard += block
                if any(line.startswith(b"SSH-") for line in heard.splitlines()):
                    return True
    except TimeoutError:
        return False
    except OSError:
        return False
    finally:
        writer.transport.abort()
        with contextlib.suppress(OSError):
            await writer.wait_closed()
    return False
