"""A worker: claims runs, keeps their leases, and ends each of them with a result or a reason."""

from __future__ import annotations

import asyncio
import contextlib
import math
import secrets
import socket
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any, assert_never

import structlog
from sqlalchemy import func, select, text, update

from fennox import __version__
from fennox.catalogue.models.runs import PEOPLE, Run, SheetRow, Worker
from fennox.core.errors import FennoxError, LeaseLost, Outdated, Stopped, TryLater
from fennox.core.facts.run_orders import RunKind
from fennox.core.facts.run_results import KeyResult
from fennox.service.deployments.deploy_run import run_deploy
from fennox.service.foundation.notifications import listen
from fennox.service.keys.rekey_run import run_rekey
from fennox.service.machines.context import Context
from fennox.service.restores.draft_run import run_draft
from fennox.service.restores.restore_run import run_restore
from fennox.service.runs import claims, queue
from fennox.service.runs.claims import Claimant, ClaimedRun
from fennox.service.runs.journal import CatalogueJournal
from fennox.service.runs.lost_workers import LeaseWatch
from fennox.service.runs.queue import Lease
from fennox.service.stores.adopt_run import run_adopt
from fennox.service.takes.look_run import run_look
from fennox.service.takes.take_run import run_take
from fennox.service.upkeep.copy_run import run_copy
from fennox.service.upkeep.scrub_run import run_scrub
from fennox.service.upkeep.sweep_run import run_sweep
from fennox.service.upkeep.verify_run import run_verify

log: Any = structlog.get_logger()

Work = Callable[[Context, Lease, CatalogueJournal], Awaitable[None]]
_TRIED_AGAIN = frozenset({"take", "look", "copy", "scrub", "verify", "sweep", "adopt", "rekey"})
_PAUSES = (60, 300, 900)  # seconds before a run is tried again
_STOPS_WITHIN = 30.0  # seconds before a run asked to stop is cancelled within a step
_POLL = 10.0  # seconds between checks of the queue without notifications


_ALIVE = text("""
insert into workers (id, name, version, for_sites, draining, seen, skew)
values (:id, :name, :version, :for_sites, false, now(),
        extract(epoch from cast(:wall as timestamptz) - clock_timestamp()))
on conflict (id) do update set seen = excluded.seen, skew = excluded.skew
returning draining
""")


def work_of(kind: RunKind) -> Work:
    """The function that carries out runs of this kind."""
    match kind:
        case "take":
            return run_take
        case "look":
            return run_look
        case "draft":
            return run_draft
        case "restore":
            return run_restore
        case "deploy":
            return run_deploy
        case "copy":
            return run_copy
        case "scrub":
            return run_scrub
        case "verify":
            return run_verify
        case "sweep":
            return run_sweep
        case "adopt":
            return run_adopt
        case "rekey":
            return run_rekey
        case _:
            assert_never(kind)


@dataclass
class RunWorker:
    """Up to ``slots`` concurrent runs in one process, and one more if a person waits for it.
    ``near``: also accept runs that need no site's worker; otherwise only runs at sites connected to
    this process.
    """

    context: Context
    slots: int
    near: bool = True
    id: str = field(default_factory=lambda: secrets.token_hex(8))
    _active: set[asyncio.Task[None]] = field(default_factory=set)
    _wake: asyncio.Event = field(default_factory=asyncio.Event)
    _kinds: str = ""  # present when last read
    _leases: LeaseWatch = field(init=False)
    _told: bool = False  # that it is outdated
    _called: bool = True  # something was queued since the queue was last seen empty

    def __post_init__(self) -> None:
        self._leases = LeaseWatch(self.context.settings.lease_seconds)

    async def work(self) -> None:
        """Runs until drained or cancelled; then hands back active runs."""
        wake = listen(self.context.settings.database, queue.QUEUED, lambda _run: self._call())
        listener = asyncio.create_task(wake)
        draining, beaten = False, -math.inf
        try:
            while True:
                self._wake.clear()
                try:
                    if time.monotonic() - beaten >= self._pause:
                        draining, beaten = await self._beat(), time.monotonic()
                        self._called = True
                    while (
                        not draining and len(self._active) <= self.slots and await self._start_one()
                    ):
                        pass
                    if draining and not self._active:
                        log.info("drained")
                        return
                except TryLater as error:
                    log.warning("database out of reach", reason=error.what)
                except Exception:
                    log.exception("a mistake in Fennox interrupted the worker; it continues")
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(self._pause):
                        await self._wake.wait()
        finally:
            listener.cancel()
            for task in self._active:
                task.cancel()
            await asyncio.gather(listener, *self._active, return_exceptions=True)
            await self._say_stopped()

    @property
    def _pause(self) -> float:
        """Seconds between checks; short compared with a lease, so that an expired one is noticed in
        time.
        """
        return min(_POLL, self.context.settings.lease_seconds / 3)

    async def _beat(self) -> bool:
        """Send a heartbeat. Returns whether to accept no new runs, because of a drain or an
        outdated version.
        """
        try:
            await self.context.check_schema()
        except Outdated as error:
            if not self._told:
                log.error("this worker takes nothing new", reason=error.what, remedy=error.remedy)
            self._told = True
            return True
        alive = {
            "id": self.id,
            "name": socket.gethostname(),
            "version": __version__,
            "for_sites": not self.near,
        }
        async with self.context.session(lasting=False) as session:
            alive["wall"] = self.context.wall()
            draining: bool = (await session.execute(_ALIVE, alive)).scalar_one()
            await queue.let_next_begin(session)
            for run in await self._leases.take_back(session, self.context.now()):
                log.warning("run taken back from a lost worker", run=run)
        return draining

    async def _say_stopped(self) -> None:
        """Record a planned end, so that it does not count as a lost worker."""
        with contextlib.suppress(TryLater):
            async with self.context.session() as session:
                await session.execute(
                    update(Worker).where(Worker.id == self.id).values(stopped=func.now())
                )

    def _call(self) -> None:
        self._called = True
        self._wake.set()

    async def _start_one(self) -> bool:
        full = len(self._active) >= self.slots
        if full and not self._called:
            return False
        if full:
            self._called = False  # unless somebody queues a run after this
        async with self.context.alone() as database:
            mine = Claimant(self.id, self.context.sites.names, self.near, people_only=full)
            claimed = await claims.claim(
                database, mine, self.context.settings.lease_seconds, self.context.now()
            )
        if claimed is None:
            return False
        self._called = True
        task = asyncio.create_task(self._carry_out(claimed))
        self._active.add(task)
        task.add_done_callback(self._ended)
        return True

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._active.discard(task)
        self._wake.set()

    async def _carry_out(self, claimed: ClaimedRun) -> None:
        lease = claimed.lease
        journal = CatalogueJournal(self.context, lease)
        work = asyncio.create_task(self._work(claimed, journal))
        heart = asyncio.create_task(self._keep_lease(lease, journal, work))
        with structlog.contextvars.bound_contextvars(run=lease.run, attempt=lease.attempt):
            try:
                await work
                log.info("run ends")
            except LeaseLost:
                log.warning("run lost to another worker")
            except FennoxError as error:
                await self._give_up(lease, error)
            except asyncio.CancelledError:
                if work.cancelled() and journal.cut_off:
                    await self._give_up(
                        lease, Stopped("The run was stopped in the middle of a step.", "")
                    )
                    return
                work.cancel()
                await asyncio.gather(work, return_exceptions=True)
                await asyncio.shield(self._hand_back(lease))
                raise
            except Exception as error:
                log.exception("run ended by a mistake in Fennox")
                fault = FennoxError(
                    f"A mistake in Fennox ended the run ({type(error).__name__}).",
                    "Send the log to its makers.",
                )
                await self._give_up(lease, fault)
            finally:
                heart.cancel()
                await asyncio.gather(heart, journal.close(), return_exceptions=True)

    async def _work(self, claimed: ClaimedRun, journal: CatalogueJournal) -> None:
        with structlog.contextvars.bound_contextvars(
            run=claimed.lease.run, attempt=claimed.lease.attempt
        ):
            log.info("run begins", kind=claimed.kind)
            await self._learn_kinds(claimed.kinds)
            await work_of(claimed.kind)(self.context, claimed.lease, journal)

    async def _learn_kinds(self, state: str) -> None:
        if state != self._kinds:
            async with self.context.session() as session:
                await self.context.kinds.learn(session)
            self._kinds = state

    async def _keep_lease(
        self, lease: Lease, journal: CatalogueJournal, work: asyncio.Task[None]
    ) -> None:
        """Renew the lease. A run asked to stop that stays in one step for too long is cancelled
        there. That equals a worker's death at that point, which every run survives.
        """
        asked: float | None = None
        while True:
            await asyncio.sleep(self.context.settings.lease_seconds / 3)
            try:
                async with self.context.session() as session:
                    journal.stop = await queue.renew(
                        session, lease, self.context.settings.lease_seconds
                    )
            except LeaseLost:
                journal.lost = True
                if asked is None:
                    asked = time.monotonic()
            except TryLater:
                # the database may return before the lease ends; otherwise the fence protects us
                continue
            if journal.going_through and not journal.lost:
                continue  # asked to stop or not: its time begins when that step has ended
            if journal.stop and asked is None:
                asked = time.monotonic()
            if asked is not None and time.monotonic() - asked >= max(
                _STOPS_WITHIN, self.context.settings.lease_seconds
            ):
                journal.cut_off = True
                work.cancel()
                return

    async def _give_up(self, lease: Lease, error: FennoxError) -> None:
        """End the run with its reason; waits if the database is briefly unavailable."""
        log.warning("run failed", problem=error.slug, reason=error.what)
        for _ in range(20):
            try:
                async with self.context.session() as session:
                    run = await queue.owned(session, lease)
                    run.reason, run.remedy, run.problem = error.what, error.remedy, error.slug
                    fingerprint = error.fields.get("fingerprint") or error.fields.get("machine")
                    run.result = KeyResult(offered=str(fingerprint)) if fingerprint else run.result
                    lane = (
                        await session.execute(select(Run.lane).where(Run.id == run.id))
                    ).scalar_one()
                    if self._may_pass(run, lane, error):
                        pause = _PAUSES[run.attempt - 1]
                        left = len(_PAUSES) - run.attempt
                        run.remedy = (
                            f"It is tried again after {pause} seconds, then {left or 'no'} more"
                            " times."
                        )
                        await queue.put_off(session, run, pause, self.context.now())
                        return
                    state = "stopped" if isinstance(error, Stopped) else "failed"
                    await queue.end(session, run, state, self.context.now())
                    await _close_sheet(session, run, state)
                return
            except LeaseLost:
                return
            except TryLater:
                await asyncio.sleep(1)

    def _may_pass(self, run: Run, lane: str, error: FennoxError) -> bool:
        """Retry a scheduled run after a transient failure; report it at once to waiting people."""
        by_itself = lane != PEOPLE
        again = isinstance(error, TryLater) and by_itself and run.kind in _TRIED_AGAIN
        return (
            again
            and run.attempt <= len(_PAUSES)
            and not run.stop_asked
            and not self.context.simulated
        )

    async def _hand_back(self, lease: Lease) -> None:
        """A planned stop: return the run to the queue immediately, without waiting for its lease to
        expire.
        """
        try:
            async with self.context.session() as session:
                run = await queue.owned(session, lease)
                await queue.put_off(session, run, 0, self.context.now())
        except (LeaseLost, TryLater):
            return


async def _close_sheet(session: Any, run: Run, state: str) -> None:
    if run.kind == "restore" and run.sheet_id is not None:
        await session.execute(
            update(SheetRow).where(SheetRow.id == run.sheet_id).values(state=state)
        )
