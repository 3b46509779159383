"""An FTP server as a store: plain (RFC 959), or with explicit TLS on both connections (RFC 4217),
by aioftp.
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import PurePosixPath
from typing import Literal

import aioftp

from fennox.core.errors import FennoxError, NoRoom, StoreUnusable, Unreachable, WrongLogin
from fennox.core.names import ObjectName, printable
from fennox.links import tls
from fennox.links.base import Credential
from fennox.stores.addresses import StoreAddress
from fennox.stores.base import (
    TEMPORARY_PREFIX,
    Abilities,
    Entry,
    FoundObject,
    Keep,
    Space,
    Span,
    temporary_name,
    unfinished,
)
from fennox.stores.ftp_client import BLOCK, CONNECT, ENCODING, FtpClient, closed
from fennox.stores.remote import RemoteStore, cut_short, missing, taken


@dataclass
class _FtpSession:
    client: FtpClient

    async def close(self) -> None:
        await self.client.shut()


class FtpStore(RemoteStore[_FtpSession]):
    """Objects are files; a put is a hidden file first, then a rename.

    The protocol has no way to refuse a name that is taken in the same moment, so the name is
    checked first. Every verb has a control connection to itself.
    """

    abilities = Abilities(ranges=True, retention=False, space=False, exclusive=False)
    together = 1

    def __init__(self, address: StoreAddress, credential: Credential, key: str | None) -> None:
        super().__init__(address)
        self._credential = credential
        self._key = key
        self._context: ssl.SSLContext | None = None

    async def _open(self) -> _FtpSession:
        if self._address.scheme == "ftps" and self._context is None:
            self._context = await self._trusted()
        client = await self._connected(self._context)
        try:
            try:
                await client.login(self._credential.account, self._credential.password or "")
            except aioftp.StatusCodeError as error:
                raise WrongLogin(
                    f"{self.address} refuses the account {self._credential.account}.",
                    "Check the login's password.",
                ) from error
            code, lines = await client.command("FEAT", ("211", "5xx"))
            client.knows_mlsd = code == "211" and any(
                line.strip().upper().startswith("MLST") for line in lines
            )
            return _FtpSession(client)
        except BaseException:
            await client.shut()
            raise

    async def _connected(self, context: ssl.SSLContext | None) -> FtpClient:
        client = FtpClient(
            connection_timeout=CONNECT,
            socket_timeout=self._limit,
            path_timeout=self._limit,
            encoding=ENCODING,
        )
        try:
            await client.connect(self._address.host, self._address.port)
            if context is not None:
                await client.upgrade_to_tls(context)
            return client
        except BaseException:
            await client.shut()
            raise

    async def _trusted(self) -> ssl.SSLContext:
        """Fetch the certificate over a first connection without a login."""
        if self._key == tls.AUTHORITY:
            return ssl.create_default_context()
        client = await self._connected(tls.looking_context())
        shown: ssl.SSLObject = client.stream.writer.get_extra_info("ssl_object")
        certificate = shown.getpeercert(binary_form=True)
        await client.shut()
        if certificate is None:
            raise Unreachable(
                f"{self.address} shows no certificate.", "Check that it is the right port."
            )
        tls.judge(self._address.machine, certificate, self._key)
        return tls.pinned_context(certificate)

    def _translated(self, error: Exception, doing: str) -> FennoxError | None:
        if isinstance(error, aioftp.StatusCodeError):
            code = str(error.received_codes[-1])
            said = printable(" ".join(error.info))[:200]
            where = f"{self.address} answers {code}: {said}."
            if code in ("452", "552"):
                return NoRoom(
                    f"No room left to {doing}. {where}", "Free space or choose another store."
                )
            if code == "522" or (code == "425" and "reuse" in said.lower()):
                return StoreUnusable(
                    f"Could not {doing}. {where}",
                    "The far side wants TLS sessions to be used again for data connections; switch"
                    " that off there.",
                )
            if code == "530":
                return WrongLogin(
                    f"Could not {doing}. {where}", "Check the login's account and password."
                )
            if code in ("421", "425", "426"):
                return Unreachable(
                    f"Could not {doing}. {where}", "Try again; look at the far side."
                )
            return StoreUnusable(
                f"Could not {doing}. {where}", "Check folder and rights on the far side."
            )
        if isinstance(error, ssl.SSLCertVerificationError):
            return tls.key_changed(
                self._address.machine, "certificate", "another certificate", self._key or "none"
            )
        if isinstance(error, OSError | EOFError | ConnectionError | aioftp.AIOFTPException):
            reason = printable(str(error))[:200] or type(error).__name__
            return Unreachable(
                f"Could not {doing}: {self.address}: {reason}.", "Try again; look at the network."
            )
        return None

    def _path(self, name: str) -> str:
        return f"{self._address.path.rstrip('/')}/{name}" if name else self._address.path or "/"

    async def _put(
        self, session: _FtpSession, name: ObjectName, data: bytes, retain_until: datetime | None
    ) -> None:
        client = session.client
        if await self._size(client, name) is not None:
            raise taken(name)
        path = self._path(name)
        temporary = f"{path.rpartition('/')[0]}/{temporary_name()}"
        try:
            try:
                await self._upload(client, temporary, data)
            except aioftp.StatusCodeError as error:
                if not str(error.received_codes[-1]).startswith("55"):
                    raise
                await self._make_parents(client, name)
                await self._upload(client, temporary, data)
            arrived = await self._size_at(client, temporary)
            if arrived != len(data):
                raise Unreachable(
                    f"{arrived} of {len(data)} bytes of {name} arrived.", "Try again."
                )
            await client.rename(PurePosixPath(temporary), PurePosixPath(path))
        except BaseException:
            with contextlib.suppress(OSError, aioftp.AIOFTPException, asyncio.CancelledError):
                await client.command(f"DELE {temporary}", ("2xx", "5xx"))
            raise

    async def _upload(self, client: FtpClient, path: str, data: bytes) -> None:
        stream = await client.get_stream(f"STOR {path}", "1xx")
        try:
            for start in range(0, len(data), BLOCK):
                await stream.write(data[start : start + BLOCK])
        except (BrokenPipeError, ConnectionResetError):
            await stream.finish()  # the cause is more useful than the broken connection
            raise
        except BaseException:
            await closed(stream.writer)
            raise
        await stream.finish()

    async def _make_parents(self, client: FtpClient, name: ObjectName) -> None:
        # the store's own folder is never created here
        await client.command(f"CWD {self._path('')}", "250")
        await client.command("CWD /", "250")
        at = self._path("").rstrip("/")
        for step in name.split("/")[:-1]:
            at = f"{at}/{step}"
            await client.command(f"MKD {at}", ("257", "550", "521"))

    async def _size(self, client: FtpClient, name: ObjectName) -> int | None:
        return await self._size_at(client, self._path(name))

    async def _size_at(self, client: FtpClient, path: str) -> int | None:
        """By SIZE (RFC 3659 §4) in image type; None if there is no such file."""
        await client.command("TYPE I", "200")
        code, lines = await client.command(f"SIZE {path}", ("213", "550"))
        return int(lines[-1].split()[-1]) if code == "213" else None

    async def _get(self, session: _FtpSession, name: ObjectName, span: Span | None) -> bytes:
        client = session.client
        size = await self._size(client, name)
        if size is None:
            await client.command(f"CWD {self._path('')}", "250")
            raise missing(name)
        span = span or Span(0, size)
        if span.start + span.length > size:
            raise cut_short(name, span)
        if span.length == 0:
            return b""
        stream = await client.get_stream(f"RETR {self._path(name)}", "1xx", offset=span.start)
        kept = bytearray()
        try:
            while len(kept) < span.length:
                block = await stream.read(min(BLOCK, span.length - len(kept)))
                if not block:
                    break
                kept += block
        except BaseException:
            await closed(stream.writer)
            raise
        if span.start + span.length == size:
            await stream.finish()
        else:
            # Ranges are read by closing early; servers report a failed transfer, or do not notice.
            await stream.finish(expected_codes=("2xx", "426", "451", "450", "550"))
        if len(kept) != span.length:
            raise cut_short(name, span)
        return bytes(kept)

    async def _walk(self, session: _FtpSession, prefix: str, keep: Keep) -> list[FoundObject]:
        client = session.client
        await client.command(f"CWD {self._path('')}", "250")
        listed: list[FoundObject] = []
        folders = [prefix.rstrip("/")]
        while folders:
            folder = folders.pop()
            code, _ = await client.command(f"CWD {self._path(folder)}", ("250", "550"))
            if code == "550":
                continue  # a prefix under which nothing has been put yet
            for entry in await self._listed(client, hidden=keep is unfinished):
                whole = f"{folder}/{entry.name}" if folder else entry.name
                if entry.folder:
                    folders += [whole] if not entry.name.startswith(TEMPORARY_PREFIX) else []
                elif entry.size is not None:
                    listed += keep(whole, entry.size, None)
        await client.command("CWD /", ("250", "550"))
        return listed

    async def _listed(self, client: FtpClient, *, hidden: bool = False) -> list[Entry]:
        """List the connection's present folder. Unparsable lines and foreign names are skipped.
        ``hidden``: also names with a leading dot, which some servers show only with an option of
        ``ls``.
        """
        command: Literal["MLSD", "LIST"] = "MLSD" if client.knows_mlsd else "LIST"
        entries = []
        async for path, info in client.list(
            "-a" if hidden and command == "LIST" else "", raw_command=command
        ):
            if info["type"] in ("dir", "file") and path.name not in ("", ".", ".."):
                size = int(info["size"]) if info["type"] == "file" and "size" in info else None
                entries.append(Entry(path.name, info["type"] == "dir", size))
        return entries

    async def _look(self, session: _FtpSession, name: ObjectName) -> FoundObject | None:
        size = await self._size(session.client, name)
        if size is None:
            return None
        code, lines = await session.client.command(f"MDTM {self._path(name)}", ("213", "5xx"))
        moment = lines[-1].split()[-1][:14] if code == "213" else ""
        at = (
            datetime.strptime(moment, "%Y%m%d%H%M%S").replace(tzinfo=UTC)
            if len(moment) == 14
            else None
        )
        return FoundObject(name, size, at)

    async def _remove(self, session: _FtpSession, name: ObjectName) -> None:
        code, _ = await session.client.command(f"DELE {self._path(name)}", ("250", "550"))
        if code == "550" and await self._size(session.client, name) is not None:
            raise StoreUnusable(
                f"Not permitted to remove {name}.", "Give the store's account that right."
            )

    async def _room(self, session: _FtpSession) -> Space | None:
        return None  # not supported by the protocol

    async def _entries(self, session: _FtpSession, path: str) -> list[Entry]:
        await session.client.command(f"CWD {path or '/'}", "250")
        entries = await self._listed(session.client)
        await session.client.command("CWD /", ("250", "550"))
        return [
            Entry(printable(entry.name.encode(ENCODING, "replace")), entry.folder, entry.size)
            for entry in entries
        ]

    async def _landed(self, session: _FtpSession) -> str:
        client = await self._connected(self._context)
        try:
            await client.login(self._credential.account, self._credential.password or "")
            home = await client.get_current_directory()
        finally:
            await client.shut()
        return f"logged in as {self._credential.account}, at first in {printable(str(home))}"
