"""Restricting logins to their machines: every connection is made with a :class:`Use`, created only
here. A login may be used at the systems and stores that have it, at their addresses and with their
keys, and where an administrator admitted it. So nobody who may start a restore, a look or a
comparison can send a secret to a machine of their own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from sqlalchemy import ColumnElement, cast, func, or_, select
from sqlalchemy.dialects.postgresql import JSONB, JSONPATH
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import Login, LoginPlace, System
from fennox.core.errors import BadInput, Conflict, MendSettings, NotAllowed
from fennox.core.format.manifest import Finding
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Setting
from fennox.core.restoring.sheet import Place, Sheet
from fennox.service.machines import sites
from fennox.service.people import scopes

if TYPE_CHECKING:
    from fennox.service.people.persons import Person

_ANOTHER = "another-system"
_ASK_OTHERS = "Ask somebody who reaches the whole estate."


@dataclass(frozen=True)
class Use:
    """A login bound to the one machine where it may be used now. ``key`` None: only fetch the
    machine's key. ``secrets``: names of the logins that the kind's secret settings mean; their
    passwords may be sent there as well. ``beside``: of the further way to the same machine.
    """

    login: Login | None  # None: no connection, or to the service itself
    address: str
    key: str | None
    secrets: Mapping[str, str] = field(default_factory=dict)
    beside: UseBeside | None = None


@dataclass(frozen=True)
class UseBeside:
    """``login``: a login's name; empty: the system names none. ``key`` None: the machine tells it.
    ``settings``: all of the system's.
    """

    login: str
    port: int
    key: str | None
    settings: Mapping[str, str]


def _beside(kind: Kind, settings: Mapping[str, str]) -> UseBeside | None:
    if kind.beside is None:
        return None
    way = kind.beside
    port = settings.get(way.port, kind.settings[way.port].default)
    key = settings.get(way.key, "") if way.key is not None else None
    return UseBeside(settings.get(way.login, ""), int(port), key, settings)


def logins_in(kind: Kind, settings: Mapping[str, str]) -> dict[str, str]:
    """Of each setting that names a login that name; empty: it names none."""
    return {name: settings.get(name, "") for name in kind.login_settings()}


def secrets_in(kind: Kind, settings: Mapping[str, str]) -> dict[str, str]:
    """Of each secret setting the name of its login; empty: it has none."""
    return {name: settings.get(name, "") for name in kind.secret_settings()}


def of_system(kind: Kind, system: System, login: Login | None) -> Use:
    if login is not None and login.id != system.login_id:
        raise MendSettings(
            f"{login.name} is not the login of {system.name}.",
            "Give it one with `fennox system set`.",
        )
    return _use(kind, system.settings, login, system.address, system.key)


def of_sheet(kind: Kind, place: Place, login: Login, settings: Mapping[str, str]) -> Use:
    """A restore's target: whoever drafted it was allowed to use the logins there
    (:func:`aimed`).
    """
    return _use(kind, settings, login, place.address, place.key)


def _use(
    kind: Kind, settings: Mapping[str, str], login: Login | None, address: str, key: str | None
) -> Use:
    return Use(login, address, key, secrets_in(kind, settings), _beside(kind, settings))


def told_by_target(login: Login, address: str) -> Use:
    """A further entrance of a machine where the login belongs, and which tells its key itself."""
    return Use(login, address, None)


def to_enrol(
    who: Person,
    login: Login | None,
    address: str,
    key: str | None,
    kind: Kind | None = None,
    settings: Mapping[str, str] | None = None,
) -> Use:
    """An administrator gives a machine's address and login. ``kind``: what is sent there is what it
    says.
    """
    if who.role != "administrator":
        raise NotAllowed(
            "Only an administrator says where a login belongs.", "Ask an administrator."
        )
    return (
        Use(login, address, key)
        if kind is None
        else _use(kind, settings or {}, login, address, key)
    )


async def must_be_passwords(
    session: AsyncSession,
    kind: Kind,
    settings: Mapping[str, str],
    keeps_rule: Callable[[Setting, Login], bool],
) -> None:
    """Refuse settings that name no login, secret ones that name one without a password, or whose
    password does not keep the kind's rule. Raises BadInput.
    """
    for setting, name in logins_in(kind, settings).items():
        if not name:
            continue
        secret = kind.settings[setting].type == "secret"
        rows = await session.execute(select(Login).where(Login.name == name))
        found = rows.scalar_one_or_none()
        if found is None or (secret and found.proves_by != "password"):
            what = "does not exist" if found is None else "has no password"
            sort = "is a secret: it names a login" if secret else "names a login"
            raise BadInput(
                f"The setting {setting} {sort}, and {name} {what}.",
                f"fennox login add {name} --account NAME --password-file FILE",
                field="settings",
            )
        if not keeps_rule(kind.settings[setting], found):
            raise _breaks_rule(kind.settings[setting], name)


def _breaks_rule(setting: Setting, login: str) -> BadInput:
    return BadInput(
        f"{setting.title}: the password of the login {login} does not keep the rule:"
        f" {setting.rule}.",
        "The machine would refuse it. Choose another one.",
        field="password",
    )


async def must_keep_rules(
    session: AsyncSession,
    login: Login,
    password: str,
    kinds: Callable[[str], Kind | None],
) -> None:
    """A new password of a login must keep the rules of every system that means it. Raises
    BadInput.
    """
    rows = await session.execute(select(System).where(_means(login)).order_by(System.name))
    for row in rows.scalars():
        kind = kinds(row.kind)
        for setting, name in secrets_in(kind, row.settings).items() if kind is not None else ():
            if kind is None or name != login.name:
                continue
            if not kind.settings[setting].keeps_rule(password):
                raise _breaks_rule(kind.settings[setting], name)


async def systems_that_mean(
    session: AsyncSession, login: Login, kinds: Callable[[str], Kind | None]
) -> list[str]:
    """Names of the systems one of whose settings names this login. ``kinds``: by name."""
    rows = await session.execute(select(System).where(_means(login)).order_by(System.name))
    return [
        row.name
        for row in rows.scalars()
        if (kind := kinds(row.kind)) is not None
        and login.name in logins_in(kind, row.settings).values()
    ]


def _means(login: Login) -> ColumnElement[bool]:
    """A system has a setting with this login's name."""
    return func.jsonb_path_exists(
        cast(System.settings, JSONB),
        cast("$.* ? (@ == $name)", JSONPATH),
        func.jsonb_build_object("name", login.name),
    )


async def aimed(
    session: AsyncSession, who: Person, login: Login, address: str, key: str | None
) -> Use:
    """Check the use of a login at a machine: where it belongs anybody may use it, elsewhere only an
    administrator. ``key`` None: use the key known there; it stays None for an administrator, who is
    shown the presented key.
    """
    belongs = await _keys_at(session, login, address)
    if key is None and len(belongs) == 1:
        [key] = belongs
    if key in belongs or who.role == "administrator":
        return Use(login, address, key)
    given = f" with the key {key}" if key is not None and belongs else ""
    raise NotAllowed(
        f"The login {login.name} does not belong at {address}{given}; it is not sent there.",
        f"An administrator admits it there: fennox login admit {login.name} --at {address}",
        field="login",
    )


async def aimed_as_secrets(
    session: AsyncSession, who: Person, names: Iterable[str], address: str, key: str | None
) -> None:
    """Check that these logins, which settings name, may be used at a machine, as :func:`aimed` does
    of the one that signs in first.
    """
    for name in filter(None, names):
        rows = await session.execute(select(Login).where(Login.name == name))
        login = rows.scalar_one_or_none()
        if login is not None:  # else nothing is sent, and the restore says so
            await aimed(session, who, login, address, key)


async def _keys_at(session: AsyncSession, login: Login, address: str) -> set[str]:
    """The keys at that address with which the login may be used."""
    systems = select(System.key).where(
        or_(System.login_id == login.id, _means(login)),
        System.address == address,
        System.retired.is_(None),
        System.key != "",
    )
    admitted = select(LoginPlace.key).where(
        LoginPlace.login_id == login.id, LoginPlace.address == address
    )
    return {
        *(await session.execute(systems)).scalars(),
        *(await session.execute(admitted)).scalars(),
    }


async def must_be_nobody_elses(
    session: AsyncSession,
    who: Person,
    system: System,
    address: str,
    key: str | None,
    spare: System | None = None,
) -> None:
    """Refuse a restore onto the machine of another enrolled system, except practice on a ``spare``.
    The system is named only to people whose scope includes it. A spare presents the key of the
    system last practised on it, so it is recognised by its machine id instead
    (:func:`another_system`).
    """
    there = System.address == address
    if spare is None:
        there = or_(there, System.key == (key or "-"))
    ours = [system.id, *([spare.id] if spare is not None else [])]
    others = select(System).where(System.id.not_in(ours), System.retired.is_(None), there)
    for other in (await session.execute(others.order_by(System.name))).scalars():
        by_address = other.address == address
        if other.key != key and not await sites.same_network(session, other.site, system.site):
            continue
        what = f"at {address}" if by_address else f"with the key {key}"
        if not await scopes.reaches(session, who.scope, other):
            raise Conflict(
                f"The machine {what} is another enrolled system.", _ASK_OTHERS, field="at"
            )
        raise Conflict(
            f"The machine {what} is {other.name}, which is enrolled.",
            f"A backup of {system.name} is not written onto it. If it no longer exists: fennox"
            f" system retire {other.name}",
            field="at",
        )


async def another_system(
    session: AsyncSession, system: System, machine: str, spare: System | None
) -> list[Finding]:
    """A blocker if this machine, at any address, belongs to another enrolled system."""
    ours = [system.id, *([spare.id] if spare is not None else [])]
    same = select(System.name).where(
        System.id.not_in(ours), System.retired.is_(None), System.machine["id"].astext == machine
    )
    return [
        Finding(
            severity="blocker",
            code=_ANOTHER,
            text=(
                f"The machine is {name}, which is enrolled; a backup of {system.name} is not"
                " written onto it."
            ),
            remedy=f"If it no longer exists: fennox system retire {name}",
        )
        for name in (await session.execute(same.order_by(System.name))).scalars()
    ]


async def must_be_shown(session: AsyncSession, sheet: Sheet) -> None:
    """Refuse a sheet that shows what another enrolled system holds: its names and values, and what
    lies on it. For readers whose scope does not include that system, and who read within it.
    """
    if not scopes.is_narrow() or all(one.code != _ANOTHER for one in sheet.findings):
        return
    read = select(System.id).where(
        System.id != sheet.system, System.machine["id"].astext == sheet.target_machine
    )
    if (await session.execute(read)).first() is None:
        raise NotAllowed(
            f"The machine of this run sheet, at {sheet.target.address}, is another enrolled system;"
            " what it holds is not shown to you.",
            _ASK_OTHERS,
        )


def unnamed(findings: list[Finding]) -> list[Finding]:
    """The same finding without the other system's name, for people with a narrow scope."""
    hidden = {
        "text": "The machine is another enrolled system; nothing is written onto it.",
        "remedy": _ASK_OTHERS,
    }
    return [one.model_copy(update=hidden) if one.code == _ANOTHER else one for one in findings]
