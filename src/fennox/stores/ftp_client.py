"""An FTP client (RFC 959, RFC 4217) with the guarantees stores need."""

from __future__ import annotations

import asyncio
import contextlib
import ssl

import aioftp
from aioftp.common import SSLSessionBoundContext

CONNECT = 15.0  # seconds


BLOCK = 256 * 1024  # bytes


# Object names are ASCII, but any byte in a listing must be readable.
ENCODING = "latin-1"


async def closed(writer: asyncio.StreamWriter) -> None:
    """Close at once and wait until it is done."""
    writer.transport.abort()
    with contextlib.suppress(OSError):
        await writer.wait_closed()


class _Data(aioftp.DataConnectionThrottleStreamIO):
    async def finish(
        self,
        expected_codes: str | tuple[str, ...] = "2xx",
        wait_codes: str | tuple[str, ...] = "1xx",
    ) -> None:
        try:
            await super().finish(expected_codes, wait_codes)
        finally:
            await closed(self.writer)


class FtpClient(aioftp.Client):
    """Protects data connections after the command, as RFC 4217 §7 has it and some servers insist
    on.
    """

    knows_mlsd: bool = False

    async def _open_connection(
        self, host: str, port: int
    ) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        if self._stream is None:
            return await super()._open_connection(host, port)
        async with asyncio.timeout(self.connection_timeout):
            return await asyncio.open_connection(host, port)

    async def get_stream(  # type: ignore[override]  # awaited only, never entered
        self,
        command: str | None = None,
        expected_codes: str | tuple[str, ...] = (),
        wait_codes: str | tuple[str, ...] = (),
        censor_after: int | None = None,
        conn_type: str = "I",
        offset: int = 0,
    ) -> _Data:
        reader, writer = await self.get_passive_connection("I")
        try:
            if offset:
                await self.command(f"REST {offset}", "350")
            await self.command(command, expected_codes, wait_codes, censor_after)
            control: ssl.SSLObject | None = self.stream.writer.get_extra_info("ssl_object")
            if control is not None:
                again = control.context
                # some servers require TLS session reuse
                if control.session is not None:
                    again = SSLSessionBoundContext(
                        ssl.PROTOCOL_TLS_CLIENT, context=control.context, session=control.session
                    )
                await writer.start_tls(
                    again, server_hostname=self.server_host, ssl_handshake_timeout=CONNECT
                )
        except BaseException:
            await closed(writer)
            raise
        return _Data(
            self, reader, writer, throttles={"_": self.throttle}, timeout=self.socket_timeout
        )

    async def shut(self) -> None:
        if self._stream is not None:
            await closed(self._stream.writer)
