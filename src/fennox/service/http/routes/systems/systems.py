"""Systems."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Header, Query, Request, Response
from sqlalchemy import ColumnElement, String, cast, func, select

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, Conflict, FennoxError, NotFound
from fennox.core.facts.return_order import in_order
from fennox.core.format.manifest import Certificate, Machine
from fennox.core.names import folder_name
from fennox.engine.reading.capture import identify, values_of
from fennox.links.base import Link, Web, parse_address
from fennox.service.access_control import audit
from fennox.service.backups import catalogue_entry
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.http.routes.systems.kinds import parts_of
from fennox.service.machines import login_uses
from fennox.service.machines.context import named
from fennox.service.machines.routes_to_machines import Way, way_to
from fennox.service.queries.paging import After, Limit, in_order_of
from fennox.service.systems import enrolment
from fennox.service.systems.relations import relations
from fennox.service.systems.views import shown
from fennox.wire.base import Page
from fennox.wire.enrolling import CertificateShown, Confirmed, NewSystem, Probe, SystemChange
from fennox.wire.relations import Relation, Relations, ReturnOrder
from fennox.wire.systems import SystemName, SystemShown

router = APIRouter(tags=["systems"])

SystemOrder = Literal["name", "kind", "site", "newest_good"]
_NEVER = datetime(1970, 1, 1, tzinfo=UTC)


@router.get("/systems")
async def list_systems(
    context: Here,
    kind: str | None = None,
    site: str | None = None,
    label: str | None = None,
    q: Annotated[
        str, Query(max_length=200, description="Words that must all be in what it says of itself.")
    ] = "",
    retired: Annotated[
        bool | None, Query(description="Only those that are no more, or only the others.")
    ] = None,
    sort: SystemOrder = "name",
    down: bool = False,
    limit: Limit = 100,
    after: After = None,
) -> Page[SystemShown]:
    """The estate; filters by kind, site, label and words (of name, kind, site, address and
    labels).
    """
    async with context.session() as session:
        query = select(System)
        if kind is not None:
            query = query.where(System.kind == kind)
        if site is not None:
            query = query.where(System.site == site)
        if label is not None:
            query = query.where(System.labels.contains([label]))
        if retired is not None:
            query = query.where(
                System.retired.is_not(None) if retired else System.retired.is_(None)
            )
        said = func.concat_ws(
            " ", System.name, System.kind, System.site, System.address, cast(System.labels, String)
        )
        for word in q.split():
            query = query.where(func.strpos(func.lower(said), func.lower(word)) > 0)
        key: ColumnElement[Any] = System.__table__.c[sort]
        if sort == "newest_good":
            key = func.coalesce(key, _NEVER)
        rows, cursor = await in_order_of(
            session, query, [key, System.name], limit, after, down=down
        )
        return Page(items=await shown(context, session, rows), after=cursor)


@router.get("/system-names")
async def list_system_names(context: Here) -> Page[SystemName]:
    """Every system, as one is chosen from; nothing is looked up for it."""
    async with context.session() as session:
        names = select(System.id, System.name, System.kind, System.site).order_by(System.name)
        return Page(items=[SystemName(**row) for row in (await session.execute(names)).mappings()])


@router.post("/systems", status_code=201)
async def add_system(wanted: NewSystem, request: Request, context: Here, who: Who) -> SystemShown:
    """Enrol a system: reach it, check its key, see who it says it is."""
    kind, _ = context.kinds.kind(wanted.kind)
    if kind.reach == "service":
        raise BadInput(
            "Fennox itself is not enrolled.", "Run: fennox own-state keep STORE", field="kind"
        )
    values_of(kind, wanted.settings)
    address = str(parse_address(wanted.address, kind.port))
    async with context.session() as session:
        login = await named(session, Login, wanted.login) if wanted.login else None
        if (login is None) != (kind.reach == "hand"):
            what = "needs a login" if login is None else "is not reached, so that it needs no login"
            raise BadInput(
                f"A {kind.title} {what}.", "Give --login, or leave it out.", field="login"
            )
        await enrolment.must_be_free(session, wanted.name, address, wanted.site)
        needs = [(await named(session, System, name)).id for name in wanted.needs]
        via = (await named(session, System, wanted.via)).id if wanted.via else None
    link: Link | None = None
    machine: Machine | None = None
    if kind.reach != "hand":
        link = await context.machines.connect(
            kind,
            login_uses.to_enrol(who, login, address, wanted.key),
            Way(wanted.site, via, wanted.patience),
        )
        try:
            machine = await identify(kind, link, wanted.settings)
        finally:
            await link.close()
    async with context.session() as session:
        system_id = secrets.token_hex(16)
        row = System(
            id=system_id,
            name=wanted.name,
            folder=folder_name(wanted.name, system_id),
            kind=kind.name,
            address=address,
            login_id=login.id if login else None,
            key=link.fingerprint if link else "",
            site=wanted.site,
            labels=wanted.labels,
            settings=dict(wanted.settings),
            machine=machine.model_dump(mode="json") if machine else None,
            needs=needs,
            via_id=via,
            patience=wanted.patience,
            key_until=link.until if isinstance(link, Web) else None,
            created=context.now(),
        )
        session.add(row)
        await audit.note(
            session, request, "enrolled", "system", row.name, address=address, key=row.key
        )
        await session.flush()
        return (await shown(context, session, [row]))[0]


@router.get("/systems/{name}")
async def show_system(name: str, response: Response, context: Here) -> SystemShown:
    """One system. Its ETag goes with changes."""
    async with context.session() as session:
        row = await named(session, System, name)
        response.headers["etag"] = f'"{row.version}"'
        return (await shown(context, session, [row]))[0]


@router.patch("/systems/{name}")
async def change_system(
    name: str,
    wanted: SystemChange,
    request: Request,
    response: Response,
    context: Here,
    if_match: str | None = Header(default=None),
) -> SystemShown:
    """Change a system; with If-Match only if nobody else changed it meanwhile."""
    async with context.session() as session:
        row = await named(session, System, name)
        await session.refresh(row, with_for_update=True)
        check_match(if_match, row.version)
        kind, _ = context.kinds.kind(row.kind)
        if kind.reach == "hand" and (wanted.login or wanted.key or wanted.via):
            raise BadInput(f"{row.name} is not reached.", "Leave out login, key and way.")
        if kind.reach == "service" and (wanted.address or wanted.login or wanted.key):
            raise BadInput(
                "Fennox itself has no address, login or key to change.", "Leave them out."
            )
        if wanted.address is not None:
            row.address = str(parse_address(wanted.address, kind.port))
        row.site = wanted.site if wanted.site is not None else row.site
        if wanted.model_fields_set & {"name", "address", "site"}:
            at = row.address if row.retired is None else ""
            await enrolment.must_be_free(session, wanted.name or row.name, at, row.site, row.id)
        if wanted.name is not None and wanted.name != row.name:
            await enrolment.rename(session, row, wanted.name)
        if wanted.login is not None:
            row.login_id = (await named(session, Login, wanted.login)).id
        if wanted.settings is not None:
            row.settings = dict(wanted.settings)
        if wanted.kind is not None and wanted.kind != row.kind:
            before, (kind, _) = kind, context.kinds.kind(wanted.kind)
            await enrolment.change_kind(session, row, kind, before)
        if wanted.settings is not None or wanted.kind is not None:
            values_of(kind, dict(row.settings))
        row.key = wanted.key if wanted.key is not None else row.key
        if wanted.needs is not None:
            row.needs = [(await named(session, System, other)).id for other in wanted.needs]
        if wanted.via is not None:
            row.via_id = (await named(session, System, wanted.via)).id if wanted.via else None
        row.patience = wanted.patience if wanted.patience is not None else row.patience
        if row.id in row.needs or row.via_id == row.id:
            raise BadInput(f"{row.name} cannot need itself.", "Name other systems.", field="needs")
        row.labels = wanted.labels if wanted.labels is not None else row.labels
        row.version += 1
        response.headers["etag"] = f'"{row.version}"'
        changed = ", ".join(sorted(wanted.model_fields_set))
        await audit.note(session, request, "changed", "system", row.name, what=changed)
        await session.flush()
        return (await shown(context, session, [row]))[0]


def check_match(if_match: str | None, version: int) -> None:
    if if_match is not None and if_match.strip('"') not in ("*", str(version)):
        raise Conflict(
            "Somebody else changed it meanwhile.", "Look at it again, then repeat the change."
        )


@router.get("/systems/{name}/relations")
async def show_relations(name: str, context: Here) -> Relations:
    """Who must be back before a system, who waits for it, who replicates with it, and its
    certificates.
    """
    async with context.session() as session:
        row = await named(session, System, name)
        every = await relations(context, session)
        newest = await catalogue_entry.newest_of(session, row.id)
    own = every[row.name]
    replicas = context.kinds.kind(row.kind)[0].replicas if own.peers else None
    return Relations(
        needs=[Relation(name=other, because=why) for other, why in sorted(own.needs.items())],
        needed_by=[
            Relation(name=other, because=related.needs[row.name])
            for other, related in sorted(every.items())
            if row.name in related.needs
        ],
        strangers=[Relation(name=host, because=why) for host, why in sorted(own.strangers.items())],
        peers=own.peers,
        replicas=[replicas.means, replicas.to_win, replicas.to_yield] if replicas else [],
        certificates=[certificate_shown(item) for item in newest.certificates] if newest else [],
    )


def certificate_shown(item: Certificate) -> CertificateShown:
    until = datetime.fromtimestamp(item.until, UTC)
    return CertificateShown(document=item.document, subject=item.subject, until=until)


@router.get("/return-order")
async def return_order(context: Here) -> ReturnOrder:
    """In which order the systems must come back after everything was lost."""
    async with context.session() as session:
        every = await relations(context, session)
    found = in_order({name: related.needs for name, related in every.items()})
    return ReturnOrder(waves=found.waves, circles=found.circles)


@router.post("/systems/{name}/probe")
async def probe_system(name: str, request: Request, context: Here) -> Probe:
    """Reach a live system and say what it is, storing nothing."""
    async with context.session() as session:
        row = await named(session, System, name)
        login = await session.get_one(Login, row.login_id) if row.login_id else None
        await audit.note(session, request, "probed", "system", row.name, **_reached(row, login))
    kind, _ = context.kinds.kind(row.kind)
    if kind.reach == "hand":
        raise BadInput(
            f"{row.name} is not reached: people hand in what they export.",
            "See: fennox backup hand-in",
        )
    known = row.machine.id if row.machine else None
    try:
        link = await context.machines.connect(kind, login_uses.of_system(row, login), way_to(row))
        try:
            machine = await identify(kind, link, dict(row.settings))
        finally:
            await link.close()
    except FennoxError as error:
        fingerprint = error.fields.get("fingerprint")
        return Probe(
            reached=False,
            fingerprint=str(fingerprint or ""),
            fingerprint_known=False,
            machine=None,
            same_machine=None,
            parts=parts_of(kind),
            problem=error.what,
            remedy=error.remedy,
        )
    return Probe(
        reached=True,
        fingerprint=link.fingerprint,
        fingerprint_known=True,
        machine=machine,
        same_machine=machine.id == known if known else None,
        parts=parts_of(kind),
    )


def _reached(row: System, login: Login | None) -> dict[str, str]:
    return {
        "address": row.address,
        "login": login.name if login is not None else "none",
        "key": row.key,
    }


@router.post("/systems/{name}/confirm")
async def confirm_system(
    name: str, wanted: Confirmed, request: Request, context: Here
) -> SystemShown:
    """Say that the machine that answers now is this system; its backups go on under the new
    identity.
    """
    async with context.session() as session:
        row = await named(session, System, name)
        kind, _ = context.kinds.kind(row.kind)
        if kind.reach == "hand":  # what is handed in tells the rest
            before_it = row.machine or Machine(id=wanted.machine, product="", version="")
            row.machine = before_it.model_copy(update={"id": wanted.machine})
            row.version += 1
            await audit.note(session, request, "confirmed", "system", row.name, now=wanted.machine)
            await session.flush()
            return (await shown(context, session, [row]))[0]
    probe = await probe_system(name, request, context)
    if probe.machine is None:
        raise NotFound(probe.problem or "The system does not answer.", probe.remedy or "")
    if probe.machine.id != wanted.machine:
        raise BadInput(
            f"The machine that answers is {probe.machine.id}.", "Confirm that one, or look again."
        )
    async with context.session() as session:
        row = await named(session, System, name)
        before = row.machine.id if row.machine else "-"
        row.machine = probe.machine
        row.version += 1
        await audit.note(
            session, request, "confirmed", "system", row.name, before=before, now=wanted.machine
        )
        await session.flush()
        return (await shown(context, session, [row]))[0]
