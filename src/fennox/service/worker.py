"""A worker: claims runs, keeps their leases, and ends each of them with a result or a reason."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import socket
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

import psycopg
import structlog
from sqlalchemy import func, update
from sqlalchemy.dialects.postgresql import insert

from fennox.catalogue.models import Run, Sheet, Worker
from fennox.core.errors import FennoxError, LeaseLost, Stopped, TryLater
from fennox.service import queue
from fennox.service.adopting import run_adopt
from fennox.service.context import Context
from fennox.service.journal import CatalogueJournal
from fennox.service.queue import Lease
from fennox.service.rekeying import run_rekey
from fennox.service.restoring import run_draft, run_restore
from fennox.service.taking import run_take
from fennox.service.tending import run_copy, run_scrub, run_sweep, run_verify

log: Any = structlog.get_logger()

WORK: dict[str, Callable[[Context, Lease, CatalogueJournal], Awaitable[None]]] = {
    "take": run_take,
    "draft": run_draft,
    "restore": run_restore,
    "copy": run_copy,
    "scrub": run_scrub,
    "verify": run_verify,
    "sweep": run_sweep,
    "adopt": run_adopt,
    "rekey": run_rekey,
}
_POLL = 2.0  # seconds between looks at the queue when nothing is announced


@dataclass
class RunWorker:
    """Up to ``slots`` runs at one time, in one process."""

    context: Context
    slots: int
    id: str = field(default_factory=lambda: secrets.token_hex(8))
    _active: set[asyncio.Task[None]] = field(default_factory=set)
    _wake: asyncio.Event = field(default_factory=asyncio.Event)

    async def work(self) -> None:
        """Until cancelled; then runs that are going on are handed back."""
        listener = asyncio.create_task(listen(self.context.settings.database, lambda _run: self._wake.set()))
        try:
            while True:
                self._wake.clear()
                try:
                    await self._beat()
                    while len(self._active) < self.slots and await self._start_one():
                        pass
                except TryLater as error:
                    log.warning("database out of reach", reason=error.what)
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._wake.wait(), _POLL)
        finally:
            listener.cancel()
            for task in self._active:
                task.cancel()
            await asyncio.gather(listener, *self._active, return_exceptions=True)

    async def _beat(self) -> None:
        async with self.context.session() as session:
            row = insert(Worker).values(id=self.id, name=socket.gethostname())
            await session.execute(row.on_conflict_do_update(index_elements=["id"], set_={"seen": func.now()}))
            for run in await queue.take_back_lost(session, self.context.now()):
                log.warning("run taken back from a lost worker", run=run)

    async def _start_one(self) -> bool:
        async with self.context.session() as session:
            claimed = await queue.claim(session, self.id, self.context.settings.lease_seconds)
            if claimed is not None and claimed[0].started is None:
                claimed[0].started = self.context.now()
        if claimed is None:
            return False
        run, lease = claimed
        task = asyncio.create_task(self._carry_out(run.kind, lease))
        self._active.add(task)
        task.add_done_callback(self._ended)
        return True

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._active.discard(task)
        self._wake.set()

    async def _carry_out(self, kind: str, lease: Lease) -> None:
        journal = CatalogueJournal(self.context, lease)
        heart = asyncio.create_task(self._keep_lease(lease, journal))
        with structlog.contextvars.bound_contextvars(run=lease.run, attempt=lease.attempt):
            try:
                log.info("run begins", kind=kind)
                await WORK[kind](self.context, lease, journal)
                log.info("run ends")
            except LeaseLost:
                log.warning("run lost to another worker")
            except FennoxError as error:
                await self._give_up(lease, journal, error)
            except asyncio.CancelledError:
                await asyncio.shield(self._hand_back(lease))
                raise
            except Exception as error:
                log.exception("run ended by a mistake in Fennox")
                fault = FennoxError(
                    f"A mistake in Fennox ended the run ({type(error).__name__}).", "Send the log to its makers."
                )
                await self._give_up(lease, journal, fault)
            finally:
                heart.cancel()
                await asyncio.gather(heart, return_exceptions=True)

    async def _keep_lease(self, lease: Lease, journal: CatalogueJournal) -> None:
        while True:
            await asyncio.sleep(self.context.settings.lease_seconds / 3)
            try:
                async with self.context.session() as session:
                    journal.stop = await queue.renew(session, lease, self.context.settings.lease_seconds)
            except LeaseLost:
                journal.lost = True
                return
            except TryLater:
                continue  # the database may come back before the lease ends; the fence guards us if not

    async def _give_up(self, lease: Lease, journal: CatalogueJournal, error: FennoxError) -> None:
        """End the run with its reason; a database that is away for a moment is waited for."""
        log.warning("run failed", problem=error.slug, reason=error.what)
        for _ in range(20):
            try:
                async with self.context.session() as session:
                    run = await queue.owned(session, lease)
                    run.reason, run.remedy, run.problem = error.what, error.remedy, error.slug
                    fingerprint = error.fields.get("fingerprint") or error.fields.get("machine")
                    run.result = {**run.result, "offered": fingerprint} if fingerprint else run.result
                    run.documents, run.size = journal.totals
                    state = "stopped" if isinstance(error, Stopped) else "failed"
                    await queue.end(session, run, state, self.context.now())
                    await _close_sheet(session, run, state)
                return
            except LeaseLost:
                return
            except TryLater:
                await asyncio.sleep(1)

    async def _hand_back(self, lease: Lease) -> None:
        """A planned stop: the run goes back to the queue at once, without waiting for its lease to end."""
        try:
            async with self.context.session() as session:
                run = await queue.owned(session, lease)
                await queue.end(session, run, "waiting", self.context.now())
                run.state = "queued"
        except (LeaseLost, TryLater):
            return


async def _close_sheet(session: Any, run: Run, state: str) -> None:
    if run.kind == "restore" and run.sheet_id is not None:
        await session.execute(update(Sheet).where(Sheet.id == run.sheet_id).values(state=state))


async def listen(database: str, heard: Callable[[str], None]) -> None:
    """Hear announcements of the queue (PostgreSQL's LISTEN); connects anew when the connection is lost."""
    address = database.replace("postgresql+psycopg://", "postgresql://", 1)
    while True:
        try:
            async with await psycopg.AsyncConnection.connect(address, autocommit=True) as connection:
                await connection.execute(f"listen {queue.CHANNEL}")
                async for notice in connection.notifies():
                    heard(notice.payload)
        except psycopg.OperationalError:
            await asyncio.sleep(0.5)
