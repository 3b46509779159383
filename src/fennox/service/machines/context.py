"""What every part of the service is given: database, clock, key file, and the doors to stores and
machines.
"""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from importlib.resources import files
from typing import TypeVar

from sqlalchemy import select, text, update
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine, AsyncSession, async_sessionmaker

from fennox import __version__
from fennox.catalogue import schema
from fennox.catalogue.models.backups import Copy
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.service import ServiceState
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import KindRow, Login, System
from fennox.core.errors import BadInput, MendSettings, NotFound, Outdated
from fennox.core.format import header as headers
from fennox.core.format.manifest import KindFile
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.kind_files import loading
from fennox.core.kind_files.loading import load as load_kind
from fennox.core.kinds.model import Kind
from fennox.core.kinds.steps import Entrance
from fennox.core.schedule import moments
from fennox.engine.backups import opened_store
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.processes.evaluator_pool import Evaluators
from fennox.links import ssh, web
from fennox.links.base import Credential, Dial, Hop, Link, parse_address
from fennox.links.kept_connections import KeptLinks
from fennox.links.protocol_greeting import greets_as_ssh
from fennox.service.foundation import postgresql, session_guard
from fennox.service.foundation.clock import Now, real_now
from fennox.service.foundation.fair_share import KEPT_AT, Turns
from fennox.service.foundation.key_file import KeyFile
from fennox.service.foundation.settings import Settings
from fennox.service.machines import sites
from fennox.service.machines.doors import Door
from fennox.service.machines.login_uses import Use
from fennox.service.machines.own_state_link import OwnState
from fennox.service.machines.routes_to_machines import ANYWHERE, Way
from fennox.service.machines.sites import SiteHub
from fennox.service.people.identity_provider import Provider
from fennox.service.people.strangers import Strangers
from fennox.service.queries.newest_good import newest_record
from fennox.stores import addresses
from fennox.stores.base import Store
from fennox.stores.opening import open_store

_LATELY = 60  # seconds
_MEASURED_EVERY = 3600.0  # seconds between looks at a store's clock
_ATTEMPTS_AT_ONCE = 2  # to sign in, in one process: their hashes are made one after the other
_MOST_HOPS = 4  # machines that the way to one may lead through


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
    clock_set: asyncio.Event = field(default_factory=asyncio.Event)
    """A simulated clock was set since it was last looked at."""
    outdated: str = ""  # why this process does no more work; empty: it does
    sites: SiteHub = field(default_factory=SiteHub)
    turns: Turns = field(default_factory=Turns)
    _sessions: async_sessionmaker[AsyncSession] = field(init=False)
    _alone: AsyncEngine = field(init=False)
    _single: async_sessionmaker[AsyncSession] = field(init=False)
    _stores: dict[str, tuple[object, Store]] = field(default_factory=dict)
    _indexes: dict[str, PackIndex] = field(default_factory=dict)
    _headers: dict[str, tuple[str, float]] = field(
        default_factory=dict
    )  # that were seen in stores, and when
    _measured: dict[str, float] = field(default_factory=dict)  # when stores' clocks were looked at
    carvers: Carvers = field(default_factory=Carvers)
    provider: Provider | None = None
    attempts_at_once: asyncio.Semaphore = field(
        default_factory=lambda: asyncio.Semaphore(_ATTEMPTS_AT_ONCE)
    )
    attempts_waiting: int = 0
    evaluators: Evaluators = field(default_factory=Evaluators)
    strangers: Strangers = field(default_factory=Strangers)
    readings: Evaluators = field(default_factory=Evaluators.of_readings)
    _links: KeptLinks = field(init=False)
    _kinds: dict[str, tuple[Kind, KindFile]] = field(default_factory=dict)
    _added_kinds: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._sessions = async_sessionmaker(
            self.engine, expire_on_commit=False, info={KEPT_AT: self.turns}
        )
        self._alone = self.engine.execution_options(isolation_level="AUTOCOMMIT")
        self._single = async_sessionmaker(
            self._alone, expire_on_commit=False, info={KEPT_AT: self.turns}
        )
        self._links = KeptLinks(self.settings.keep_connections)

    @asynccontextmanager
    async def session(
        self, *, lasting: bool = True, single: bool = False
    ) -> AsyncIterator[AsyncSession]:
        """One transaction: committed at the end, rolled back on an error.

        What need not be ``lasting`` is not waited for on the disk: a crash of the machine may lose
        the last of it. ``single``: every statement is a transaction of its own, which saves the
        beginning and the end of one.
        """
        with postgresql.in_words(), session_guard.session_open():
            async with (self._single if single else self._sessions)() as session, session.begin():
                if not lasting:
                    await session.execute(text("set local synchronous_commit to off"))
                yield session

    @asynccontextmanager
    async def alone(self) -> AsyncIterator[AsyncConnection]:
        """For statements that are each a transaction of its own, and of whose rows nobody makes
        objects.
        """
        with postgresql.in_words(), session_guard.session_open():
            async with self._alone.connect() as connection:
                yield connection

    async def check_schema(self) -> None:
        """Raise if a newer Fennox has brought the database to a schema that this one does not know.

        What is said stays: every door of this process is closed from then on.
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

    # kinds

    def kind(self, name: str) -> tuple[Kind, KindFile]:
        """A kind that ships or was added, with its text as a backup carries it."""
        if name not in self._kinds:
            text = self.kind_text(name)
            kind = load_kind(text, self.kind_text)
            file = KindFile(
                name=name, version=kind.version, text=loading.whole(text, self.kind_text)
            )
            self._kinds[name] = (kind, file)
        return self._kinds[name]

    def installed(self, name: str) -> Kind | None:
        """As :meth:`kind`; None: an adopted backup is of a kind that nobody has added here."""
        return self.kind(name)[0] if name in self._kinds or name in self.kind_names() else None

    def kind_text(self, name: str) -> str:
        """The text of a kind: the newest that was added, or the one that ships."""
        if name in self._added_kinds:
            return self._added_kinds[name]
        path = files("fennox").joinpath(f"kinds/{name}.toml")
        if not name.replace("-", "").isalnum() or not path.is_file():
            raise BadInput(
                f"There is no kind {name}.",
                f"There are: {', '.join(self.kind_names())}.",
                field="kind",
            )
        return path.read_text(encoding="utf-8")

    def shipped_kinds(self) -> set[str]:
        names = (entry.name for entry in files("fennox").joinpath("kinds").iterdir())
        return {name.removesuffix(".toml") for name in names if name.endswith(".toml")}

    def kind_names(self) -> list[str]:
        return sorted(self.shipped_kinds() | self._added_kinds.keys())

    async def learn_kinds(self, session: AsyncSession) -> None:
        """Read the kinds that were added, perhaps by another process."""
        rows = (
            await session.execute(select(KindRow).order_by(KindRow.name, KindRow.version))
        ).scalars()
        self._added_kinds = {row.name: row.text for row in rows}
        self._kinds.clear()

    # stores

    def far_side(self, address: str, login: Login | None, key: str | None) -> Store:
        """A place that is not, or not yet, a store of ours; whoever asks for it closes it."""
        return self._reach(address, self.credential(login) if login else None, key)

    def _reach(self, address: str, credential: Credential | None, key: str | None) -> Store:
        return session_guard.outside_sessions(open_store(addresses.parse(address), credential, key))

    async def store(self, door: Door) -> Store:
        """The store's place; its connections are kept for the next verb."""
        held = self._stores.get(door.place)
        if held is not None and held[0] == door.known:
            return held[1]
        made = self._reach(door.address, door.credential, door.key)
        self._stores[door.place] = (door.known, made)
        if held is not None:
            await held[1].close()
        return made

    async def close(self) -> None:
        await self._links.close()
        await self.carvers.close()
        await self.evaluators.close()
        await self.readings.close()
        for _, store in self._stores.values():
            await store.close()
        await self.engine.dispose()

    async def write_secret(self, session: AsyncSession, row: StoreRow) -> WriteSecret:
        """Of the newest generation."""
        return self.write_secret_of(await self._key_set(session, row))

    def write_secret_of(self, keys: KeySet) -> WriteSecret:
        place = f"key_sets|{keys.id}|{keys.generation}|write secret"
        return WriteSecret(
            self.keyfile.open(keys.sealed_write_secret, place), keys.id, keys.generation
        )

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
            raise MendSettings(
                f"The keys of the store {row.name} are missing.", "Adopt the store again."
            )
        return keys

    async def door(
        self,
        session: AsyncSession,
        row: StoreRow,
        *,
        removing: bool = False,
        generations: Sequence[KeySet] | None = None,
        lately: bool = False,
    ) -> Door:
        """Read what it takes to open a store, outside of this session.

        ``removing``: with the login that may remove things, where the store has one of its own for
        that. ``generations``: of its key set, if they have been read. ``lately``: as for
        :meth:`vault`.
        """
        if generations is None:
            generations = (
                (await session.execute(select(KeySet).where(KeySet.id == row.key_set)))
                .scalars()
                .all()
            )
        await self._key_set(session, row)  # which says what is wrong if the store's own are missing
        login_id = (row.sweep_login_id if removing else None) or row.login_id
        login = await session.get(Login, login_id) if login_id else None
        changed = login.changed.isoformat() if login else None
        return Door(
            store=row.id,
            name=row.name,
            address=row.address,
            place=f"{row.id} {login_id}",
            known=(row.address, row.key, changed, login_id),
            credential=self.credential(login) if login else None,
            key=row.key,
            header=row.header,
            held={keys.generation: self.write_secret_of(keys) for keys in generations},
            opening=await self.kept_opening_key(session, row),
            chain={
                keys.generation: sealed
                for keys in generations
                if (sealed := keys.previous_opening_key)
            },
            newest=(
                None
                if self._looked(row.id, row.header, lately)
                else await newest_record(session, row)
            ),
        )

    def _looked(self, store: str, header: str, lately: bool) -> bool:
        """Whether this process has looked within the last minute whether that header is the newest
        there.
        """
        seen = self._headers.get(store)
        return (
            lately
            and seen is not None
            and seen[0] == header
            and time.monotonic() - seen[1] < _LATELY
        )

    async def vault(self, door: Door, *, lately: bool = False) -> Vault:
        """Open a store with its pinned header and the keys held here, and see whether it went back
        in time.

        ``lately``: it will do if that was looked at within the last minute, as for the many takes
        of a night.
        """
        looked = self._looked(door.store, door.header, lately)
        begun = time.monotonic()
        vault = await opened_store.open_pinned(
            await self.store(door),
            pinned=door.header.encode(),
            held=door.held,
            opening=door.opening,
            now=self.now,
            chain=door.chain,
            looked=looked,
        )
        if not looked:
            await self._see_whether_it_went_back(door, vault)
            self._headers[door.store] = (door.header, begun)
        return vault

    async def _see_whether_it_went_back(self, door: Door, vault: Vault) -> None:
        """A store that lacks the last record that was put there is an older copy of itself; a
        concern says so.
        """
        if door.newest is None or not await vault.lost(door.newest):
            return
        self.index(door.store).look_again()
        text = (
            f"its newest record, {door.newest.rsplit('/', 1)[-1]}, is not there, and no sweep"
            " removed it"
        )
        async with self.session() as session:
            await session.execute(
                update(StoreRow).where(StoreRow.id == door.store).values(went_back=text)
            )

    async def still_held(self, backup: str, store: str) -> bool:
        """Whether the catalogue says that a store holds a backup, now."""
        async with self.session() as session:
            return await session.get(Copy, (backup, store)) is not None

    def measures(self, store: StoreRow) -> bool:
        """Whether it is time to see by how much a store's clock differs: seldom, while it does
        not.
        """
        if self.simulated:
            return False
        now, apart = (
            time.monotonic(),
            store.skew is None or abs(store.skew) > moments.APART.total_seconds(),
        )
        due = apart or now - self._measured.get(store.id, -_MEASURED_EVERY) >= _MEASURED_EVERY
        if due:
            self._measured[store.id] = now
        return due

    def index(self, store_id: str) -> PackIndex:
        """This process's memory of where chunks lie in a store."""
        return self._indexes.setdefault(store_id, PackIndex())

    # machines

    def credential(self, login: Login) -> Credential:
        secret = self.keyfile.open(login.sealed_secret, f"logins|{login.id}|secret").decode()
        match login.proves_by:
            case "key":
                certificate = login.certificate or None
                return Credential(
                    login.account, private_key=secret, certificate=certificate, become=login.become
                )
            case "agent":
                if not self.settings.ssh_agent:
                    raise MendSettings(
                        f"The login {login.name} goes by an SSH agent, and this worker knows none.",
                        "Set FENNOX_SSH_AGENT to the agent's socket where the workers run.",
                    )
                return Credential(login.account, agent=self.settings.ssh_agent, become=login.become)
            case "here":
                return Credential(login.account, become=login.become)
        return Credential(login.account, password=secret, become=login.become)

    async def connect(
        self,
        kind: Kind | Entrance,
        use: Use,
        way: Way = ANYWHERE,
        *,
        kept: bool = False,
    ) -> Link:
        """Reach a machine. ``kept``: over a connection that an earlier run left open will do, and
        this one is left.
        """
        if kind.reach == "service":
            return OwnState(self.engine, self.service_id)
        if kind.reach == "hand":
            raise BadInput(
                "Such a system is not reached: people hand in what they export.",
                "Use backup hand-in.",
            )
        if use.login is None:
            raise MendSettings("The system has no login.", "Give it one with `fennox system set`.")
        return await self._linked(
            kind, use.address, self.credential(use.login), use.key, way, kept=kept
        )

    async def try_credential(
        self, kind: Kind, address: str, credential: Credential, key: str, way: Way
    ) -> Link:
        """As :meth:`connect`, with what everybody knows, like a login of a fresh installation."""
        return await self._linked(kind, address, credential, key, way)

    async def tell_key(self, address: str, way: Way) -> None:
        """Raise the error that shows with which key a machine answers. Nothing secret is sent to
        it.
        """
        session_guard.check_outside(f"connection to {address}")
        parsed, nobody, dial = (
            parse_address(address, 22),
            Credential("nobody"),
            await self.dialler(way.site),
        )
        if await greets_as_ssh(parsed, dial):
            link: Link = await ssh.connect(parsed, nobody, None, way.patience, [], dial)
        else:
            link = await web.connect(parsed, nobody, None, way.patience, dial)
        await link.close()

    async def _linked(
        self,
        kind: Kind | Entrance,
        address: str,
        credential: Credential,
        key: str | None,
        way: Way = ANYWHERE,
        *,
        kept: bool = False,
    ) -> Link:
        session_guard.check_outside(f"connection to {address}")
        parsed = parse_address(address, kind.port)
        if kind.reach == "ssh":
            hops, site = await self._hops(way)
            dial = await self.dialler(site)
            made_with = (parsed, credential, key, tuple(hops))
            kept = kept and dial is None  # a worker of a site keeps nothing
            link = await self._links.take(made_with) if kept else None
            if link is None:
                link = await ssh.connect(parsed, credential, key, way.patience, hops, dial)
            link.language = kind.shell
            return self._links.keep(made_with, link) if kept else link
        if way.via is not None:
            raise MendSettings(
                "Only what is reached by SSH is reached through another system.", "Take --via away."
            )
        return await web.connect(
            parsed, credential, key, way.patience, await self.dialler(way.site)
        )

    async def dialler(self, site: str) -> Dial | None:
        """Who makes connections to the machines of a site; None: this machine's own network leads
        there.
        """
        if not site:
            return None
        async with self.session() as session:
            served = await sites.is_served(session, site)
        if served and site not in self.sites.names:
            raise sites.away(site)
        return self.sites.dialler(site) if served else None

    async def _hops(self, way: Way) -> tuple[list[Hop], str]:
        """The machines on the way, the nearest first, and the site where it begins."""
        found: list[Hop] = []
        via, site = way.via, way.site
        if via is None:
            return found, site
        async with self.session() as session:
            while via is not None:
                row = await session.get_one(System, via)
                kind, _ = self.kind(row.kind)
                login = await session.get_one(Login, row.login_id) if row.login_id else None
                if kind.reach != "ssh" or login is None or len(found) == _MOST_HOPS:
                    raise MendSettings(
                        f"The way through {row.name} is none: it is not reached by SSH, or leads in"
                        " a circle.",
                        "Change it with `fennox system set NAME --via SYSTEM`.",
                    )
                found.insert(
                    0, Hop(parse_address(row.address, kind.port), self.credential(login), row.key)
                )
                via, site = row.via_id, row.site
        return found, site


async def open_context(
    settings: Settings,
    now: Now,
    keyfile: KeyFile,
    *,
    simulated: bool,
    turns: Turns | None = None,
    clock_set: asyncio.Event | None = None,
) -> Context:
    """Connect to the database and learn, or decide for the first time, who this service is."""
    engine = postgresql.connect(settings)
    try:
        with postgresql.in_words():
            service_id = await _who_we_are(engine, now, "simulated" if simulated else "real")
        context = Context(
            settings, engine, now, keyfile, service_id, simulated, turns=turns or Turns()
        )
        context.clock_set = clock_set or context.clock_set
        async with context.session() as session:
            await context.learn_kinds(session)
    except BaseException:
        await engine.dispose()
        raise
    return context


async def _who_we_are(engine: AsyncEngine, now: Now, clock: str) -> str:
    """The service's id. A database keeps to the clock it began with."""
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
    """The row of a noun by its name or its id."""
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
