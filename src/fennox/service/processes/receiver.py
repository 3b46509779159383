"""The process of the receiving end: SFTP and FTP servers over the spool.

It is a process of its own, so that what strangers send can neither stop the service nor slow it
down. It ends with the process that began it, and begins anew when its settings change.
"""

from __future__ import annotations

import asyncio
import json
import os
import signal
import sys
from asyncio.subprocess import Process
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import structlog

from fennox import logs
from fennox.catalogue.models.drops import DropSettings
from fennox.core.errors import TryLater
from fennox.drop.ftp.server import FtpServerThread
from fennox.drop.identity import DropCertificate
from fennox.drop.logins import Doorkeeper, Pace, Sessions
from fennox.drop.relayed import RelayedConnections
from fennox.drop.sftp_server import SftpServer
from fennox.drop.spool import Spool
from fennox.links.base import parse_address, why_not_listening
from fennox.service.drops import drop_logins, drop_settings
from fennox.service.drops.spools import offers_of, spool_folder, spool_of
from fennox.service.foundation.notifications import CHANGED, listen
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context
from fennox.service.processes.process_context import open_process
from fennox.wire.drops import DropListening

log: Any = structlog.get_logger()

_RELOAD_EVERY = 30.0  # seconds, in case a notification was lost
_LONGEST_TOLD = 65536  # bytes; a pipe holds as many
_PAUSE = 2.0  # seconds until an address that was taken is tried again


@dataclass
class Receiver:
    """Serves until cancelled."""

    context: Context
    _doorkeeper: Doorkeeper = field(default_factory=Doorkeeper)
    _sessions: Sessions = field(default_factory=Sessions)
    _pace: Pace = field(default_factory=Pace)
    _servers: list[SftpServer | FtpServerThread] = field(default_factory=list)
    _relayed: RelayedConnections | None = None
    _listens: tuple[str, ...] | None = None
    _called: asyncio.Event = field(default_factory=asyncio.Event)

    async def serve(self) -> None:
        spool, offers = spool_of(self.context), offers_of(self.context)
        self._doorkeeper.offered = offers.login
        await asyncio.to_thread(spool.recover)
        hearing = asyncio.create_task(
            listen(self.context.settings.database, CHANGED, lambda _duty: self._called.set())
        )
        try:
            while True:
                self._called.clear()
                pause = _RELOAD_EVERY
                try:
                    await asyncio.to_thread(offers.sweep)
                    pause = await self._follow(spool)
                except TryLater as error:  # who is known already may still push
                    log.warning("database out of reach", reason=error.what)
                with suppress(TimeoutError):
                    async with asyncio.timeout(pause):
                        await self._called.wait()
        finally:
            hearing.cancel()
            await asyncio.gather(hearing, return_exceptions=True)
            await self._close()
            drop_settings.write_status(self.context.settings.state, [])

    async def _follow(self, spool: Spool) -> float:
        """Read the logins and settings of the moment; listen anew where that has changed."""
        async with self.context.session() as session:
            row = await drop_settings.settings_row(session)
            self._doorkeeper.replace(await drop_logins.all_logins(session))
        self._pace.rate = row.rate if row is not None else 0
        wanted = () if row is None else (row.sftp, row.ftps, row.ftp, row.public, row.passive)
        if wanted == self._listens:
            return _RELOAD_EVERY
        await self._close()
        listening = await self._listen(spool, row) if row is not None else []
        drop_settings.write_status(self.context.settings.state, listening)
        if any(one.problem for one in listening):
            return _PAUSE
        self._listens = wanted
        return _RELOAD_EVERY

    async def _listen(self, spool: Spool, row: DropSettings) -> list[DropListening]:
        keys = drop_settings.keys_of(self.context.keyfile, row)
        passive = _ports(row.passive)
        found = []
        if row.sftp:
            server = SftpServer(
                spool,
                offers_of(self.context),
                self._doorkeeper,
                self._sessions,
                self._pace,
                keys.host_key,
            )
            found.append(await self._begin("sftp", row.sftp, server))
            self._relayed = RelayedConnections(
                spool_folder(self.context.settings.state), server.serve
            )
            self._relayed.start()
        for protocol, address, certificate in (
            ("ftps", row.ftps, keys.certificate),
            ("ftp", row.ftp, None),
        ):
            if address:
                found.append(
                    await self._begin(
                        "ftps" if protocol == "ftps" else "ftp",
                        address,
                        self._ftp(spool, certificate, row.public, passive),
                    )
                )
        return found

    def _ftp(
        self, spool: Spool, certificate: DropCertificate | None, public: str, passive: range | None
    ) -> FtpServerThread:
        return FtpServerThread(
            spool,
            self._doorkeeper,
            self._sessions,
            self._pace,
            certificate,
            public or None,
            passive,
            spool_folder(self.context.settings.state) if certificate is not None else None,
        )

    async def _begin(
        self,
        protocol: Literal["sftp", "ftps", "ftp"],
        address: str,
        server: SftpServer | FtpServerThread,
    ) -> DropListening:
        there = parse_address(address, 1)
        try:
            if isinstance(server, SftpServer):
                await server.start(there.host, there.port)
            else:
                server.start(there.host, there.port)
        except OSError as error:
            log.warning("the receiving end does not listen", address=address, reason=str(error))
            problem = f"{address} cannot be listened on: {why_not_listening(error)}."
            return DropListening(protocol=protocol, address=address, problem=problem)
        self._servers.append(server)
        log.info("the receiving end listens", protocol=protocol, address=address)
        return DropListening(protocol=protocol, address=address, problem="")

    async def _close(self) -> None:
        if self._relayed is not None:
            await self._relayed.close()
            self._relayed = None
        for server in self._servers:
            if isinstance(server, SftpServer):
                await server.close()
            else:
                await asyncio.to_thread(server.close)
        self._servers.clear()


def _ports(text: str) -> range | None:
    if not text:
        return None
    first, last = map(int, text.split("-"))
    return range(first, last + 1)


async def until_told(work: asyncio.Task[None]) -> None:
    """Cancel ``work`` at a signal, or when the process that began this one has closed its end of
    standard input, as it does by ending.
    """
    loop = asyncio.get_running_loop()
    for name in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(name, work.cancel)
    loop.add_reader(sys.stdin.fileno(), work.cancel)
    with suppress(asyncio.CancelledError):
        await work


def receive() -> None:
    """The process of the receiving end, begun by the service, which tells it the settings in the
    first line of standard input.
    """
    told = json.loads(os.read(sys.stdin.fileno(), _LONGEST_TOLD))
    settings = Settings(**told["settings"])
    logs.start(settings.log)

    async def run() -> None:
        context = await open_process(settings, Path(told["clock"]) if told["clock"] else None)
        try:
            await until_told(asyncio.create_task(Receiver(context).serve()))
        finally:
            await context.close()

    asyncio.run(run())


_CHILD = "from fennox.service.processes.receiver import receive; receive()"


async def keep_receiving(context: Context, clock: Path | None) -> None:
    """By the service: one process of the receiving end while it is on, begun anew when it ends.
    Runs until cancelled.
    """
    called, process = asyncio.Event(), None
    hearing = asyncio.create_task(
        listen(context.settings.database, CHANGED, lambda duty: _call(called, duty))
    )
    try:
        while True:
            called.clear()
            try:
                async with context.session() as session:
                    wanted = drop_settings.is_on(await drop_settings.settings_row(session))
                if wanted and (process is None or process.returncode is not None):
                    process = await _begun(context.settings, clock)
                elif not wanted and process is not None:
                    await _ended(process)
                    process = None
            except TryLater as error:
                log.warning("database out of reach", reason=error.what)
            ending = asyncio.create_task(process.wait() if process else asyncio.Event().wait())
            waking = asyncio.create_task(called.wait())
            await asyncio.wait([ending, waking], return_when=asyncio.FIRST_COMPLETED)
            if ending.done():
                code = process.returncode if process is not None else None
                log.warning("the receiving end has ended; it begins anew", code=code)
                await asyncio.sleep(_PAUSE)
            ending.cancel()
            waking.cancel()
    finally:
        hearing.cancel()
        if process is not None:
            await _ended(process)


def _call(called: asyncio.Event, duty: str) -> None:
    if duty in ("", "drops"):
        called.set()


async def _begun(settings: Settings, clock: Path | None) -> Process:
    process = await asyncio.create_subprocess_exec(
        sys.executable, "-c", _CHILD, stdin=asyncio.subprocess.PIPE
    )
    assert process.stdin is not None
    told = {"settings": settings.model_dump(mode="json"), "clock": str(clock) if clock else None}
    process.stdin.write(json.dumps(told).encode() + b"\n")
    await process.stdin.drain()
    return process


async def _ended(process: Process) -> None:
    with suppress(ProcessLookupError):
        process.terminate()
    await process.wait()
