"""The context of a process: database, clock, key file, and access to stores and machines."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import TypeVar

from sqlalchemy import select, text
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine, AsyncSession, async_sessionmaker

from fennox import __version__
from fennox.catalogue import schema
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.service import ServiceState
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import MendSettings, NotFound, Outdated
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.processes.evaluator_pool import Evaluators
from fennox.links.secure_shell.kept_connections import KeptLinks
from fennox.service.foundation import connection_pool, postgresql, session_guard
from fennox.service.foundation.clock import Now, real_now
from fennox.service.foundation.fair_share import KEPT_AT, Turns
from fennox.service.foundation.key_file import KeyFile
from fennox.service.foundation.settings import Settings
from fennox.service.machines.connections import Connections
from fennox.service.machines.credentials import Credentials
from fennox.service.machines.kinds import Kinds
from fennox.service.machines.own_state_link import OwnState
from fennox.service.machines.sites import SiteHub
from fennox.service.machines.store_doors import StoreDoors
from fennox.service.people.identity_provider import Provider
from fennox.service.people.strangers import Strangers

# concurrent sign-ins per process: their hashes are computed one after the other
_ATTEMPTS_AT_ONCE = 2


@dataclass
class Context:
    """Shared by the routes, the scheduler and the worker of a process."""

    settings: Settings
    engine: AsyncEngine
    now: Now
    keyfile: KeyFile
    service_id: str
    simulated: bool
    wall: Now = real_now  # the machine's own clock: sign-ins never use a simulated one
    clock_set: asyncio.Event = field(default_factory=asyncio.Event)
    """A simulated clock was set since the last check."""
    outdated: str = ""  # why this process stopped working; empty: it works
    sites: SiteHub = field(default_factory=SiteHub)
    turns: Turns = field(default_factory=Turns)
    _sessions: async_sessionmaker[AsyncSession] = field(init=False)
    _alone: AsyncEngine = field(init=False)
    _single: async_sessionmaker[AsyncSession] = field(init=False)
    carvers: Carvers = field(default_factory=Carvers)
    provider: Provider | None = None
    attempts_at_once: asyncio.Semaphore = field(
        default_factory=lambda: asyncio.Semaphore(_ATTEMPTS_AT_ONCE)
    )
    attempts_waiting: int = 0
    evaluators: Evaluators = field(default_factory=Evaluators)
    strangers: Strangers = field(default_factory=Strangers)
    readings: Evaluators = field(default_factory=Evaluators.of_readings)
    kinds: Kinds = field(default_factory=Kinds)
    stores: StoreDoors = field(init=False)
    machines: Connections = field(init=False)

    def __post_init__(self) -> None:
        self._sessions = async_sessionmaker(
            self.engine, expire_on_commit=False, info={KEPT_AT: self.turns}
        )
        self._alone = self.engine.execution_options(isolation_level="AUTOCOMMIT")
        self._single = async_sessionmaker(
            self._alone, expire_on_commit=False, info={KEPT_AT: self.turns}
        )
        credentials = Credentials(self.keyfile, self.settings.ssh_agent)
        self.stores = StoreDoors(self.session, credentials, self.now, self.simulated)
        self.machines = Connections(
            self.session,
            credentials,
            self.kinds,
            self.sites,
            lambda: OwnState(self.engine, self.service_id),
            KeptLinks(self.settings.keep_connections),
        )

    @asynccontextmanager
    async def session(
        self, *, lasting: bool = True, single: bool = False
    ) -> AsyncIterator[AsyncSession]:
        """One transaction: committed at the end, rolled back on an error. Without ``lasting`` the
        commit does not wait for the disk; a crash of the machine may lose it. ``single``: every
        statement is its own transaction, which saves BEGIN and COMMIT.
        """
        with postgresql.in_words(), session_guard.session_open():
            async with (self._single if single else self._sessions)() as session, session.begin():
                if not lasting:
                    await session.execute(text("set local synchronous_commit to off"))
                yield session

    @asynccontextmanager
    async def alone(self) -> AsyncIterator[AsyncConnection]:
        """For single-statement transactions whose rows are not mapped to objects."""
        with postgresql.in_words(), session_guard.session_open():
            async with self._alone.connect() as connection:
                yield connection

    async def must_reach_database(self) -> None:
        async with self.session() as session:
            await session.execute(text("select 1"))

    async def check_schema(self) -> None:
        """Raise if a newer Fennox has migrated the database to a schema unknown here. Permanent:
        this process opens nothing afterwards.
        """
        async with self.alone() as database:
            number = (
                await database.execute(text("select version_num from alembic_version"))
            ).scalar_one()
        if str(number) != schema.NUMBER:
            self.outdated = (
                f"A newer Fennox has brought the database to schema {number}; this one,"
                f" {__version__}, knows {schema.NUMBER} and does no more work."
            )
        if self.outdated:
            raise Outdated(
                self.outdated, "Stop this process, and start the new version in its place."
            )

    async def close(self) -> None:
        await self.machines.close()
        await self.carvers.close()
        await self.evaluators.close()
        await self.readings.close()
        await self.stores.close()
        await connection_pool.close(self.engine)


async def open_context(
    settings: Settings,
    now: Now,
    keyfile: KeyFile,
    *,
    simulated: bool,
    turns: Turns | None = None,
    clock_set: asyncio.Event | None = None,
) -> Context:
    """Connect to the database and load the service's identity, or create it at the first start."""
    engine = postgresql.connect(settings)
    try:
        with postgresql.in_words():
            service_id = await _who_we_are(engine, now, "simulated" if simulated else "real")
        context = Context(
            settings, engine, now, keyfile, service_id, simulated, turns=turns or Turns()
        )
        context.clock_set = clock_set or context.clock_set
        async with context.session() as session:
            await context.kinds.learn(session)
    except BaseException:
        await engine.dispose()
        raise
    return context


async def _who_we_are(engine: AsyncEngine, now: Now, clock: str) -> str:
    """The service's id. A database must keep the clock it was created with."""
    async with async_sessionmaker(engine)() as session, session.begin():
        state = (await session.execute(select(ServiceState).with_for_update())).scalar_one_or_none()
        if state is None:
            if (
                clock == "simulated"
                and (await session.execute(select(System.id).limit(1))).first() is not None
            ):
                raise MendSettings(
                    "A simulated clock needs an empty database.", "Use another database."
                )
            state = ServiceState(
                one=1, id=secrets.token_hex(16), clock=clock, created=now(), setup_code=None
            )
            session.add(state)
        elif state.clock != clock:
            raise MendSettings(
                f"This database lives by a {state.clock} clock and cannot be used with a {clock}"
                " one.",
                "Use another database.",
            )
        return state.id


Named = TypeVar("Named", System, StoreRow, Login, Routine)
_NOUNS = {System: "system", StoreRow: "store", Login: "login", Routine: "routine"}


async def named(session: AsyncSession, table: type[Named], name: str) -> Named:
    """A row by its name or id."""
    row = (
        await session.execute(select(table).where((table.name == name) | (table.id == name)))
    ).scalar_one_or_none()
    if row is None:
        noun = _NOUNS[table]
        raise NotFound(
            f"There is no {noun} {name}.",
            f"`fennox {noun} list` shows those there are.",
            field=noun,
        )
    return row


async def locked(session: AsyncSession, table: type[Named], name: str) -> Named:
    """As :func:`named`, locking the row until this transaction ends."""
    row = await named(session, table, name)
    await session.refresh(row, with_for_update=True)
    return row
