"""Making connections: through this machine's network, or through a worker at a site."""

from __future__ import annotations

import asyncio
import contextlib
import ssl
from collections.abc import AsyncIterator, Iterable
from contextlib import asynccontextmanager
from typing import Any

import httpcore
import httpx

from fennox.links.base import Address, Dial


@asynccontextmanager
async def opened(
    address: Address, dial: Dial | None, context: ssl.SSLContext | None = None
) -> AsyncIterator[tuple[asyncio.StreamReader, asyncio.StreamWriter]]:
    """A short-lived connection to see what answers. Raises ``OSError`` like any other."""
    if dial is None:
        reader, writer = await asyncio.open_connection(address.host, address.port, ssl=context)
    else:
        name = address.host if context is not None else None
        reader, writer = await asyncio.open_connection(
            sock=await dial(address), ssl=context, server_hostname=name
        )
    try:
        yield reader, writer
    finally:
        writer.transport.abort()
        with contextlib.suppress(OSError):
            await writer.wait_closed()


class _Stream(httpcore.AsyncNetworkStream):
    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader, self._writer = reader, writer

    async def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        try:
            async with asyncio.timeout(timeout):
                return await self._reader.read(max_bytes)
        except TimeoutError as error:
            raise httpcore.ReadTimeout from error
        except OSError as error:
            raise httpcore.ReadError from error

    async def write(self, buffer: bytes, timeout: float | None = None) -> None:
        try:
            self._writer.write(buffer)
            async with asyncio.timeout(timeout):
                await self._writer.drain()
        except TimeoutError as error:
            raise httpcore.WriteTimeout from error
        except OSError as error:
            raise httpcore.WriteError from error

    async def aclose(self) -> None:
        self._writer.close()
        with contextlib.suppress(OSError):
            await self._writer.wait_closed()

    async def start_tls(
        self,
        ssl_context: ssl.SSLContext,
        server_hostname: str | None = None,
        timeout: float | None = None,
    ) -> httpcore.AsyncNetworkStream:
        try:
            async with asyncio.timeout(timeout):
                await self._writer.start_tls(ssl_context, server_hostname=server_hostname)
        except TimeoutError as error:
            raise httpcore.ConnectTimeout from error
        except OSError as error:  # ssl.SSLError is one
            raise httpcore.ConnectError(str(error)) from error
        return self

    def get_extra_info(self, info: str) -> Any:
        return self._writer.get_extra_info(
            {"ssl_object": "ssl_object", "client_addr": "sockname"}.get(info, info)
        )


class _Backend(httpcore.AsyncNetworkBackend):
    def __init__(self, dial: Dial) -> None:
        self._dial = dial

    async def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore.AsyncNetworkStream:
        try:
            async with asyncio.timeout(timeout):
                made = await self._dial(Address(host, port))
            return _Stream(*await asyncio.open_connection(sock=made))
        except TimeoutError as error:
            raise httpcore.ConnectTimeout from error
        except OSError as error:
            raise httpcore.ConnectError(str(error)) from error

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)


class DialledTransport(httpx.AsyncHTTPTransport):
    """For httpx, which accepts a custom way to connect only through its connection pool."""

    def __init__(self, dial: Dial, context: ssl.SSLContext) -> None:
        super().__init__(verify=context, trust_env=False)
        self._pool = httpcore.AsyncConnectionPool(
            ssl_context=context, network_backend=_Backend(dial)
        )
