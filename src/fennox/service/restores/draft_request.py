"""A request for a draft: backup, target, and logins."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import assert_never

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import Run, SheetRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, Conflict, KeyUnknown
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.facts.run_orders import Aim, DraftOrder
from fennox.core.kinds.model import Kind
from fennox.core.kinds.steps import Entrance
from fennox.core.names import printable
from fennox.core.places import single_objects
from fennox.core.places.sheet_model import RestorePurpose
from fennox.links.base import parse_address
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import Way, way_to
from fennox.service.people.persons import Person
from fennox.service.queries.lookups import find_backup
from fennox.service.runs import new_runs
from fennox.service.systems import enrolment
from fennox.wire.restores import NewDraft


@dataclass(frozen=True)
class AimedDraft:
    """``use``: login at the target; ``at_entrance``: login at the kind's entrance. ``spare``: the
    enrolled spare used as target.
    """

    backup: Backup
    system: System
    spare: System | None
    kind: Kind
    purpose: RestorePurpose
    use: login_uses.Use
    entrance: Entrance | None
    at_entrance: login_uses.Use | None

    @property
    def way(self) -> Way:
        return way_to(self.spare or self.system)

    def in_audit(self) -> dict[str, str]:
        assert self.use.login is not None
        told = {
            "purpose": self.purpose,
            "backup": self.backup.id,
            "at": self.use.address,
            "login": self.use.login.name,
            "key": str(self.use.key),
        }
        if self.at_entrance is not None and self.at_entrance.login is not None:
            told |= {
                "entrance": self.at_entrance.address,
                "entrance_login": self.at_entrance.login.name,
                "entrance_key": str(self.at_entrance.key),
            }
        return told


async def target(
    context: Context, session: AsyncSession, wanted: NewDraft, who: Person
) -> AimedDraft:
    """Raises BadInput, Conflict, and NotAllowed for a login that may not be used there."""
    backup = await find_backup(session, wanted.backup)
    system = await session.get_one(System, backup.system_id)
    spare = await _spare(session, system, wanted)
    if spare is not None and wanted.key is None:
        await _must_be_itself(session, spare)
    kind, _ = context.kinds.kind(system.kind)
    if backup.purpose == "safety" and wanted.purpose != "practise":
        raise Conflict(
            "This is a safety copy: what a machine held before a restore, and no backup of"
            f" {system.name}.",
            "Put it back with `fennox restore return SHEET`; the sheet: fennox restore list",
        )
    if kind.rebuilt_by:
        raise Conflict(
            f"{kind.title} is not restored by a run sheet.",
            f"On an empty machine: {kind.rebuilt_by}",
        )
    parts_to_take(kind, wanted.parts)
    must_be_places(kind, wanted.place)
    single_objects.must_be_single(kind, wanted.parts, wanted.only)
    _must_be_decided(wanted)
    known = spare or system
    address = _address(kind, system, spare, wanted)
    await _must_be_named(session, system, address, wanted)
    login = (
        await named(session, Login, wanted.login)
        if wanted.login
        else await session.get_one(Login, known.login_id)
    )
    own_key = known.key if address == known.address else None
    use = await login_uses.aimed(session, who, login, address, wanted.key or own_key)
    settings = dict(system.settings)
    if wanted.beside is not None:
        settings |= _further_login(kind, (await named(session, Login, wanted.beside)).name)
    meant = login_uses.logins_in(kind, settings).values()
    await login_uses.aimed_as_secrets(session, who, meant, use.address, use.key)
    await login_uses.must_be_nobody_elses(session, who, system, use.address, use.key, spare)
    entrance = kind.restore.entrance if kind.restore is not None else None
    at_entrance = None
    if entrance is not None:
        host = wanted.entrance.at or parse_address(address, kind.port).host
        there = str(parse_address(host, entrance.port))
        if entrance.until_rejoin and wanted.entrance.at is None:
            there = address  # the same door, by another login
        by = await named(session, Login, wanted.entrance.login) if wanted.entrance.login else login
        if entrance.key_in is not None and by.id == login.id:
            at_entrance = login_uses.told_by_target(by, there)
        else:
            same = use.key if there == use.address else None
            key = wanted.entrance.key or same
            at_entrance = await login_uses.aimed(session, who, by, there, key)
    return AimedDraft(backup, system, spare, kind, wanted.purpose, use, entrance, at_entrance)


def _further_login(kind: Kind, login: str) -> dict[str, str]:
    if kind.beside is None:
        raise BadInput(f"{kind.title} has no further way.", "Leave it away.", field="beside")
    return {kind.beside.login: login}


def _must_be_decided(wanted: NewDraft) -> None:
    """Raises BadInput for a decision about peers that would not be heeded."""
    if wanted.claim and wanted.peers != "win":
        raise BadInput(
            "A claim is of a copy that wins.", "Give --peers win with --claim.", field="claim"
        )
    if wanted.peers is not None and wanted.purpose in ("practise", "seed"):
        raise BadInput(
            "A copy for practice, or of a new system, never meets the peers.",
            "Leave --peers away.",
            field="peers",
        )


def must_be_places(kind: Kind, wanted: Mapping[str, str]) -> None:
    """Raises BadInput for a value of the place that the kind does not have."""
    names = [rule.name for rule in kind.place]
    for name in wanted:
        if name.partition("[")[0] not in names:
            raise BadInput(
                f"{kind.title} has no value of the place {printable(name)}.",
                f"It has: {', '.join(names) or 'none'}.",
                field="place",
            )


async def _spare(session: AsyncSession, system: System, wanted: NewDraft) -> System | None:
    """The spare to practise on; None: the target is given by its address."""
    other = await named(session, System, wanted.onto) if wanted.onto else system
    if wanted.purpose != "practise":
        if other.id != system.id:
            raise BadInput(
                f"The backup is of {system.name}, not of {other.name}.",
                "Give the address of the fresh machine with --at.",
                field="onto",
            )
        return None
    if not wanted.onto:
        return None
    if not other.spare:
        raise BadInput(
            f"{other.name} is no spare: practice would overwrite it.",
            "Name a spare, or the address of a fresh machine with --at. A spare is enrolled by:"
            " fennox system add NAME … --spare",
            field="onto",
        )
    if other.kind != system.kind:
        raise BadInput(
            f"{other.name} is of the kind {other.kind}, {system.name} of {system.kind}.",
            "Name a spare of the same kind.",
            field="onto",
        )
    return other


async def _must_be_itself(session: AsyncSession, spare: System) -> None:
    """Refuse a spare that still shows the key of the system that was practised on it last; the key
    would look like that of somebody in between.
    """
    last = select(SheetRow).where(SheetRow.spare_id == spare.id, SheetRow.state != "draft")
    row = (await session.execute(last.order_by(SheetRow.created.desc()).limit(1))).scalars().first()
    if row is None or row.state == "returned" or row.data.purpose == "return":
        return
    sheet = row.data
    if sheet.rejoined and sheet.after.place.key != spare.key:
        raise Conflict(
            f"{spare.name} is as the practice of {sheet.system_name} left it, and shows its key.",
            f"Put it back first: fennox restore return {row.id[:12]}. Or use it as it is:"
            f" --accept-key {sheet.after.place.key} --login LOGIN",
            field="onto",
        )


def _address(kind: Kind, system: System, spare: System | None, wanted: NewDraft) -> str:
    """Where the target answers. Raises BadInput if the purpose does not allow that."""
    given = str(parse_address(wanted.at, kind.port)) if wanted.at else None
    match wanted.purpose:
        case "repair":
            if given is not None and given != system.address:
                raise BadInput(
                    f"A repair is of {system.name}'s own machine, at {system.address}.",
                    "For a machine at another address draft with --replace or --practise.",
                    field="at",
                )
            return system.address
        case "replace" | "practise" | "seed":
            if spare is not None and given not in (None, spare.address):
                raise BadInput(
                    f"{spare.name} is at {spare.address}.",
                    "Name the spare, or another address, not both.",
                    field="at",
                )
            address = given or (spare.address if spare is not None else None)
            if address is None:
                instead = " or --onto SPARE" if wanted.purpose == "practise" else ""
                raise BadInput(
                    "The target's address is missing.",
                    f"Give --at HOST:PORT{instead}.",
                    field="at",
                )
            if address == system.address:
                raise BadInput(
                    f"{system.name} itself is at {address}.",
                    "To put its backup back onto its own machine, draft with --repair.",
                    field="at",
                )
            return address
        case _:
            assert_never(wanted.purpose)


async def _must_be_named(
    session: AsyncSession, system: System, address: str, wanted: NewDraft
) -> None:
    """A seed needs an unused system name; other purposes have none."""
    if (wanted.purpose == "seed") != (wanted.new_name is not None):
        what = (
            "The new system's name is missing."
            if wanted.purpose == "seed"
            else "Only a seed becomes a new system."
        )
        raise BadInput(what, "Draft with --seed NAME.", field="new_name")
    if wanted.new_name is not None:
        await enrolment.must_be_free(session, wanted.new_name, address, system.site)


async def must_be_accepted(context: Context, aimed: AimedDraft) -> None:
    """Raises KeyUnknown with the presented fingerprint if none was accepted."""
    way = aimed.way
    if aimed.use.key is None:
        await _show_key(context, aimed.kind, aimed.use, way)
    at_entrance = aimed.at_entrance
    closed = aimed.entrance is not None and aimed.entrance.key_in is not None
    if aimed.entrance is not None and at_entrance is not None and not (at_entrance.key or closed):
        await _show_key(context, aimed.entrance, at_entrance, way)


async def _show_key(
    context: Context, reach: Kind | Entrance, use: login_uses.Use, way: Way
) -> None:
    """Sends nothing to a machine without an accepted key; the error shows its key."""
    try:
        link = await context.machines.connect(reach, use, way)
    except KeyUnknown as error:
        error.fields["field"] = "entrance.key" if isinstance(reach, Entrance) else "key"
        raise
    await link.close()
    raise KeyUnknown("The fingerprint was not accepted.", "Accept it.")


async def enqueue(
    context: Context, session: AsyncSession, aimed: AimedDraft, wanted: NewDraft, by: str
) -> Run:
    return await new_runs.enqueue(
        session,
        DraftOrder(
            backup=aimed.backup.id,
            target=_aim(aimed.use),
            parts=wanted.parts,
            places=wanted.place,
            only=wanted.only,
            entrance=_aim(aimed.at_entrance) if aimed.at_entrance is not None else None,
            purpose=wanted.purpose,
            spare=aimed.spare.id if aimed.spare is not None else None,
            new_name=wanted.new_name,
            stance=wanted.peers,
            claim=wanted.claim,
            beside=wanted.beside or "",
        ),
        new_runs.About(system_id=(aimed.spare or aimed.system).id),
        by=by,
        now=context.now(),
        wait=wanted.wait,
    )


def _aim(use: login_uses.Use) -> Aim:
    """An empty key: the target tells it."""
    assert use.login is not None
    return Aim(login=use.login.id, address=use.address, key=use.key or "")
