"""Connections to machines, made at the start of their route; some are kept for the next run."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass
from functools import partial

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, KeyUnknown, MendSettings
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Setting
from fennox.core.kinds.steps import Entrance
from fennox.engine.reading.capture import told_key
from fennox.links import web
from fennox.links.base import Address, Credential, Dial, Hop, Link, SecondLink, parse_address
from fennox.links.protocol_greeting import greets_as_ssh
from fennox.links.secure_shell import ssh
from fennox.links.secure_shell.kept_connections import KeptLinks
from fennox.service.foundation import session_guard
from fennox.service.machines import sites
from fennox.service.machines.credentials import Credentials
from fennox.service.machines.kinds import Kinds
from fennox.service.machines.login_uses import Use
from fennox.service.machines.routes_to_machines import ANYWHERE, Way
from fennox.service.machines.sites import SiteHub

_MOST_HOPS = 4  # jump hosts allowed on a route


@dataclass
class Connections:
    """``own``: connects to the service itself, as a system like any other."""

    session: Callable[[], AbstractAsyncContextManager[AsyncSession]]
    credentials: Credentials
    kinds: Kinds
    sites: SiteHub
    own: Callable[[], Link]
    kept: KeptLinks

    async def close(self) -> None:
        await self.kept.close()

    async def connect(
        self,
        kind: Kind | Entrance,
        use: Use,
        way: Way = ANYWHERE,
        *,
        kept: bool = False,
    ) -> Link:
        """Connect to a machine. ``kept``: reuse a connection left open by an earlier run, and keep
        this one.
        """
        if kind.reach == "service":
            return self.own()
        if kind.reach in ("hand", "push"):
            raise BadInput(
                "Such a system is not reached: what it has is handed in, or it pushes by itself.",
                "See: fennox backup hand-in, fennox drop show",
            )
        if use.login is None:
            raise MendSettings("The system has no login.", "Give it one with `fennox system set`.")
        secrets = await self._secrets(use.secrets)
        if isinstance(kind, Kind):
            empty = [name for name, found in secrets.items() if found is None]
            secrets |= {name: "" for name in empty if kind.settings[name].optional}
        link = await self._linked(
            kind,
            use.address,
            self.credentials.credential(use.login),
            use.key,
            way,
            kept=kept,
            secrets=secrets,
        )
        link.beside = None  # a kept one may have had that of another system
        if isinstance(kind, Kind) and kind.beside is not None:
            link.beside = SecondLink(partial(self._beside, kind, use, way, link, secrets))
        return link

    async def _beside(
        self, kind: Kind, use: Use, way: Way, first: Link, secrets: Mapping[str, str | None]
    ) -> Link:
        """The further way to the same machine. Its key is the one that was accepted, or the one
        that the machine tells by the first way. Raises MendSettings and FarSideFailed.
        """
        assert kind.beside is not None
        assert use.beside is not None
        setting, by = kind.beside.login, use.beside
        if not by.login:
            raise MendSettings(
                f"The system names no login for {kind.settings[setting].title}.",
                f"Name one: fennox system set SYSTEM --setting {setting}=LOGIN",
            )
        async with self.session() as session:
            rows = await session.execute(select(Login).where(Login.name == by.login))
            login = rows.scalar_one_or_none()
        if login is None:
            raise self._no_such(setting, by.login)
        key = by.key if by.key is not None else await told_key(kind, first, dict(by.settings))
        host = parse_address(use.address, kind.port).host
        entrance = Entrance(reach=kind.beside.reach, port=by.port, shell=kind.shell)
        try:
            return await self._linked(
                entrance,
                str(Address(host, entrance.port)),
                self.credentials.credential(login),
                key or None,
                way,
                secrets=secrets,
            )
        except KeyUnknown as error:
            shown = error.fields["fingerprint"]
            raise MendSettings(
                error.what,
                "Compare it with the machine's own, then: fennox system set SYSTEM --setting"
                f" {kind.beside.key}={shown}",
            ) from error

    @staticmethod
    def _no_such(setting: str, login: str) -> MendSettings:
        return MendSettings(
            f"The setting {setting} names the login {login}, which does not exist.",
            f"Name another: fennox system set SYSTEM --setting {setting}=LOGIN",
        )

    def keeps_rule(self, setting: Setting, login: Login) -> bool:
        """Whether the login's password keeps the rule of a secret setting."""
        return setting.keeps_rule(self.credentials.credential(login).password or "")

    async def _secrets(self, names: Mapping[str, str]) -> dict[str, str | None]:
        """The passwords of these logins, by setting. Raises MendSettings."""
        if not names:
            return {}
        async with self.session() as session:
            rows = await session.execute(select(Login).where(Login.name.in_(set(names.values()))))
            logins = {row.name: row for row in rows.scalars()}
        secrets: dict[str, str | None] = {}
        for setting, name in names.items():
            if name and name not in logins:
                raise self._no_such(setting, name)
            found = self.credentials.credential(logins[name]).password if name else None
            if name and found is None:
                raise MendSettings(
                    f"The setting {setting} names the login {name}, which has no password.",
                    f"Give it one: fennox login set {name} --password-file FILE",
                )
            secrets[setting] = found
        return secrets

    async def try_credential(
        self, kind: Kind, address: str, credential: Credential, key: str, way: Way
    ) -> Link:
        """As :meth:`connect`, with a publicly known login, such as a fresh installation's."""
        return await self._linked(kind, address, credential, key, way)

    async def tell_key(self, address: str, way: Way) -> None:
        """Raise an error with the key the machine presents. Sends nothing secret."""
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
        secrets: Mapping[str, str | None] | None = None,
    ) -> Link:
        session_guard.check_outside(f"connection to {address}")
        parsed = parse_address(address, kind.port)
        if kind.reach == "ssh":
            hops, site = await self._hops(way)
            dial = await self.dialler(site)
            made_with = (parsed, credential, key, tuple(hops))
            kept = kept and dial is None  # a site's worker keeps no connections
            link = await self.kept.take(made_with) if kept else None
            if link is None:
                link = await ssh.connect(parsed, credential, key, way.patience, hops, dial)
            link.language, link.secrets = kind.shell, secrets or {}
            return self.kept.keep(made_with, link) if kept else link
        if way.via is not None:
            raise MendSettings(
                "Only what is reached by SSH is reached through another system.", "Take --via away."
            )
        dial = await self.dialler(way.site)
        return await web.connect(parsed, credential, key, way.patience, dial, secrets)

    async def dialler(self, site: str) -> Dial | None:
        """The maker of connections to a site's machines; None: this machine's own network reaches
        them.
        """
        if not site:
            return None
        async with self.session() as session:
            served = await sites.is_served(session, site)
        if served and site not in self.sites.names:
            raise sites.away(site)
        return self.sites.dialler(site) if served else None

    async def _hops(self, way: Way) -> tuple[list[Hop], str]:
        """The jump hosts, nearest first, and the site where the route starts."""
        found: list[Hop] = []
        via, site = way.via, way.site
        if via is None:
            return found, site
        async with self.session() as session:
            while via is not None:
                row = await session.get_one(System, via)
                kind, _ = self.kinds.kind(row.kind)
                login = await session.get_one(Login, row.login_id) if row.login_id else None
                if kind.reach != "ssh" or login is None or len(found) == _MOST_HOPS:
                    raise MendSettings(
                        f"There is no way through {row.name}: it is not reached by SSH, or the"
                        " way leads in a circle.",
                        "Change it with `fennox system set NAME --via SYSTEM`.",
                    )
                found.insert(
                    0,
                    Hop(
                        parse_address(row.address, kind.port),
                        self.credentials.credential(login),
                        row.key,
                    ),
                )
                via, site = row.via_id, row.site
        return found, site
