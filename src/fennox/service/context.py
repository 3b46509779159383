"""What every part of the service is given: database, clock, key file, and the doors to stores and machines."""

from __future__ import annotations

import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from importlib.resources import files
from typing import TypeVar

from sqlalchemy import select
from sqlalchemy.exc import DataError, DBAPIError
from sqlalchemy.ext.asyncio import AsyncEngine, AsyncSession, async_sessionmaker, create_async_engine

from fennox.catalogue.models import KeySet, Login, Routine, ServiceState, StoreRow, System
from fennox.core.errors import BadInput, MendSettings, NotFound, TryLater
from fennox.core.format import header as headers
from fennox.core.format.hpke import OpeningKey
from fennox.core.format.secret import WriteSecret
from fennox.core.kinds.loading import load as load_kind
from fennox.core.kinds.model import Kind
from fennox.engine import vault as vaults
from fennox.engine.index import PackIndex
from fennox.engine.vault import Vault
from fennox.links import ssh, web
from fennox.links.base import Address, Credential, Link
from fennox.service.clock import Now, real_now
from fennox.service.keyfile import KeyFile
from fennox.service.ownstate import OwnState
from fennox.service.settings import Settings
from fennox.stores import addresses
from fennox.stores.base import Store
from fennox.stores.opening import open_store


@dataclass
class Context:
    """Shared by the routes, the scheduler and the worker of one process."""

    settings: Settings
    engine: AsyncEngine
    now: Now
    keyfile: KeyFile
    service_id: str
    simulated: bool
    wall: Now = real_now  # the machine's own clock: sign-ins never follow a simulated one
    _sessions: async_sessionmaker[AsyncSession] = field(init=False)
    _stores: dict[str, tuple[object, Store]] = field(default_factory=dict)
    _indexes: dict[str, PackIndex] = field(default_factory=dict)
    _kinds: dict[str, tuple[Kind, str]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._sessions = async_sessionmaker(self.engine, expire_on_commit=False)

    @asynccontextmanager
    async def session(self) -> AsyncIterator[AsyncSession]:
        """One transaction: committed at the end, rolled back on an error."""
        try:
            async with self._sessions() as session, session.begin():
                yield session
        except DataError as error:
            raise BadInput(
                "A text holds a character that cannot be kept, or a number is out of range.", "Leave it out."
            ) from error
        except DBAPIError as error:
            if error.connection_invalidated or type(error.orig).__name__ in ("OperationalError", "AdminShutdown"):
                raise TryLater("The database does not answer.", "Try again; look at PostgreSQL.") from error
            raise

    # kinds

    def kind(self, name: str) -> tuple[Kind, str]:
        """A kind that ships, with its text."""
        if name not in self._kinds:
            path = files("fennox").joinpath(f"kinds/{name}.toml")
            if not name.replace("-", "").isalnum() or not path.is_file():
                raise BadInput(f"There is no kind {name}.", f"There are: {', '.join(self.kind_names())}.", field="kind")
            text = path.read_text()
            self._kinds[name] = (load_kind(text), text)
        return self._kinds[name]

    def kind_names(self) -> list[str]:
        names = (entry.name for entry in files("fennox").joinpath("kinds").iterdir())
        return sorted(name.removesuffix(".toml") for name in names if name.endswith(".toml"))

    # stores

    def far_side(self, address: str, login: Login | None, key: str | None) -> Store:
        """A place that is not, or not yet, a store of ours; whoever asks for it closes it."""
        return open_store(addresses.parse(address), self.credential(login) if login else None, key)

    async def store(self, session: AsyncSession, row: StoreRow, *, removing: bool = False) -> Store:
        """The store's place; its connections are kept for the next verb.

        ``removing``: with the login that may remove things, where the store has one of its own for that.
        """
        login_id = (row.sweep_login_id if removing else None) or row.login_id
        login = await session.get(Login, login_id) if login_id else None
        known = (row.address, row.key, login.changed if login else None, login.id if login else None)
        place = f"{row.id} {login_id}"
        held = self._stores.get(place)
        if held is not None and held[0] == known:
            return held[1]
        made = self.far_side(row.address, login, row.key)
        self._stores[place] = (known, made)
        if held is not None:
            await held[1].close()
        return made

    async def close(self) -> None:
        for _, store in self._stores.values():
            await store.close()
        await self.engine.dispose()

    async def write_secret(self, session: AsyncSession, row: StoreRow) -> WriteSecret:
        """Of the newest generation."""
        return self.write_secret_of(await self._key_set(session, row))

    def write_secret_of(self, keys: KeySet) -> WriteSecret:
        place = f"key_sets|{keys.id}|{keys.generation}|write secret"
        return WriteSecret(self.keyfile.open(keys.sealed_write_secret, place), keys.id, keys.generation)

    async def kept_opening_key(self, session: AsyncSession, row: StoreRow) -> OpeningKey | None:
        """The opening key in custody ``kept``; None in ``apart``."""
        keys = await self._key_set(session, row)
        if keys.sealed_opening_key is None:
            return None
        place = f"key_sets|{keys.id}|{keys.generation}|opening key"
        suite = headers.decode(row.header.encode()).suite
        return OpeningKey(suite, self.keyfile.open(keys.sealed_opening_key, place))

    async def _key_set(self, session: AsyncSession, row: StoreRow) -> KeySet:
        keys = await session.get(KeySet, (row.key_set, row.generation))
        if keys is None:
            raise MendSettings(f"The keys of the store {row.name} are missing.", "Adopt the store again.")
        return keys

    async def vault(self, session: AsyncSession, row: StoreRow, *, removing: bool = False) -> Vault:
        """Open a store with its pinned header and the keys held here. ``removing``: as for :meth:`store`."""
        await self._key_set(session, row)
        generations = (await session.execute(select(KeySet).where(KeySet.id == row.key_set))).scalars().all()
        return await vaults.open_pinned(
            await self.store(session, row, removing=removing),
            pinned=row.header.encode(),
            held={keys.generation: self.write_secret_of(keys) for keys in generations},
            opening=await self.kept_opening_key(session, row),
            now=self.now,
            chain={keys.generation: sealed for keys in generations if (sealed := keys.previous_opening_key)},
        )

    def index(self, store_id: str) -> PackIndex:
        """This process's memory of where chunks lie in a store."""
        return self._indexes.setdefault(store_id, PackIndex())

    # machines

    def credential(self, login: Login) -> Credential:
        secret = self.keyfile.open(login.sealed_secret, f"logins|{login.id}|secret").decode()
        if login.proves_by == "key":
            return Credential(login.account, private_key=secret)
        return Credential(login.account, password=secret)

    async def connect(self, kind: Kind, address: str, login: Login | None, key: str | None) -> Link:
        if kind.reach == "service":
            return OwnState(self.engine, self.service_id)
        if login is None:
            raise MendSettings("The system has no login.", "Give it one with `fennox system set`.")
        reach = ssh.connect if kind.reach == "ssh" else web.connect
        return await reach(parse_address(address, kind.port), self.credential(login), key)


async def open_context(settings: Settings, now: Now, keyfile: KeyFile, *, simulated: bool) -> Context:
    """Connect to the database and learn, or decide for the first time, who this service is."""
    # A process that is paused in a transaction must not hold a run's row for longer than its lease.
    idle = f"-c idle_in_transaction_session_timeout={int(settings.lease_seconds * 1000)}"
    engine = create_async_engine(
        settings.database,
        pool_size=20,
        max_overflow=20,
        pool_pre_ping=True,
        hide_parameters=True,  # what people send does not belong in logs
        connect_args={"options": idle},
    )
    try:
        service_id = await _who_we_are(engine, now, "simulated" if simulated else "real")
    except BaseException:
        await engine.dispose()
        raise
    return Context(settings, engine, now, keyfile, service_id, simulated)


async def _who_we_are(engine: AsyncEngine, now: Now, clock: str) -> str:
    """The service's id. A database keeps to the clock it began with."""
    async with async_sessionmaker(engine)() as session, session.begin():
        state = (await session.execute(select(ServiceState).with_for_update())).scalar_one_or_none()
        if state is None:
            if clock == "simulated" and (await session.execute(select(System.id).limit(1))).first() is not None:
                raise MendSettings("A simulated clock needs an empty database.", "Use another database.")
            state = ServiceState(one=1, id=secrets.token_hex(16), clock=clock, created=now(), setup_code=None)
            session.add(state)
        elif state.clock != clock:
            raise MendSettings(
                f"This database lives by a {state.clock} clock and cannot be used with a {clock} one.",
                "Use another database.",
            )
        return state.id


def parse_address(text: str, default_port: int) -> Address:
    """``host``, ``host:port`` or ``[v6]:port``."""
    host, separator, port = text.rpartition(":")
    if not separator or (":" in host and not host.endswith("]")):
        host, port = text, str(default_port)
    host = host.strip("[]")
    if not host or not port.isdigit() or not 0 < int(port) < 65536 or any(c.isspace() or c in "/@" for c in host):
        raise BadInput(f"{text!r} is not an address.", "Write host:port, like 10.1.2.3:22.", field="address")
    return Address(host, int(port))


Named = TypeVar("Named", System, StoreRow, Login, Routine)
_NOUNS = {System: "system", StoreRow: "store", Login: "login", Routine: "routine"}


async def named(session: AsyncSession, table: type[Named], name: str) -> Named:
    """The row of a noun by its name or its id."""
    row = (await session.execute(select(table).where((table.name == name) | (table.id == name)))).scalar_one_or_none()
    if row is None:
        noun = _NOUNS[table]
        raise NotFound(f"There is no {noun} {name}.", f"`fennox {noun} list` shows those there are.", field=noun)
    return row
