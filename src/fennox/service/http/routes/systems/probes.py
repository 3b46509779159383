"""A look at a machine before it is enrolled."""

from __future__ import annotations

from fastapi import APIRouter, Request
from sqlalchemy import select

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, KeyUnknown, Unreachable
from fennox.core.evidence.evaluation import Census, parts_to_take
from fennox.core.facts.return_order import host_in
from fennox.core.format.manifest import Finding
from fennox.core.kinds.model import Kind
from fennox.engine.inspection.recognition import fitting
from fennox.engine.inspection.trial import Tried, try_kind
from fennox.engine.reading.capture import values_of
from fennox.links.base import Web, parse_address
from fennox.links.protocol_greeting import greets_as_ssh
from fennox.service.access_control import audit
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.http.routes.systems.systems import certificate_shown
from fennox.service.machines import default_logins, login_uses, sites
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import Way
from fennox.service.systems.relations import faces
from fennox.wire.enrolling import CertificateShown, Looked, LookWanted, TriedPart

router = APIRouter(tags=["systems"])


@router.post("/systems/look")
async def look_at_machine(wanted: LookWanted, request: Request, context: Here, who: Who) -> Looked:
    """What answers at an address, what a backup of it would hold and lack. The machine is read;
    nothing is kept.
    """
    async with context.session() as session:
        login = await named(session, Login, wanted.login)
        way = Way(
            wanted.site, (await named(session, System, wanted.via)).id if wanted.via else None
        )
    kinds, address = await _candidates(context, wanted, way)
    async with context.session() as session:
        await audit.note(
            session,
            request,
            "looked at",
            "machine",
            address,
            login=login.name,
            key=wanted.key or "unknown",
        )
    try:
        link = await context.machines.connect(
            kinds[0], login_uses.to_enrol(who, login, address, wanted.key), way
        )
    except KeyUnknown as error:
        return Looked(address=address, key=str(error.fields["fingerprint"]), accepted=False)
    try:
        fits = await fitting(kinds, link)
        if not fits:
            raise BadInput(
                f"What answers at {address} is of no kind that is known.",
                "`fennox kind list` shows them.",
            )
        found = Looked(
            address=address,
            key=link.fingerprint,
            accepted=True,
            fits=sorted(kind.name for kind in fits),
        )
        if len(fits) > 1:
            return found
        parts = parts_to_take(fits[0], None)
        tried = await try_kind(
            fits[0], link, wanted.settings, parts, "", context.readings, lambda _: None
        )
    finally:
        await link.close()
    works = await default_logins.still_working(
        context,
        fits[0],
        address,
        context.machines.credentials.credential(login),
        link.fingerprint,
        way,
    )
    defaults = [
        Finding(
            severity="warning",
            code="default-login",
            text=f"The login {account} that every fresh {fits[0].title} has still works.",
            remedy="Change its password.",
        )
        for account in works
    ]
    async with context.session() as session:
        systems = list((await session.execute(select(System))).scalars())
        near = {row.id for row in systems if row.address == address}
        near = {
            row.id
            for row in systems
            if row.id in near and await sites.same_network(session, row.site, way.site)
        }
    same = [
        row.name
        for row in systems
        if row.id in near or (row.machine is not None and row.machine.id == tried.machine.id)
    ]
    until = link.until if isinstance(link, Web) else None
    shown = [CertificateShown(document="", subject="its own", until=until)] if until else []
    return found.model_copy(
        update={
            "kind": fits[0].name,
            "machine": tried.machine,
            "enrolled_as": same[0] if same else None,
            "parts": _parts(fits[0], tried),
            "census": {name: len(listed) for name, listed in tried.census.items()},
            "findings": [*defaults, *tried.findings],
            "left_out": tried.left_out,
            "certificates": shown + [certificate_shown(item) for item in tried.certificates],
            "related": await _related(context, fits[0], tried.census, systems),
        }
    )


def _parts(kind: Kind, tried: Tried) -> list[TriedPart]:
    parts = {part.name: part for part in kind.part}
    return [
        TriedPart(
            name=name,
            title=parts[name].title,
            essential=parts[name].essential,
            documents=len(held),
            bytes=sum(document.size for document in held),
        )
        for name, held in tried.documents.items()
    ]


async def _candidates(context: Context, wanted: LookWanted, way: Way) -> tuple[list[Kind], str]:
    """The kinds that what answers may be, and the address with its port."""
    if wanted.kind:
        given, _ = context.kinds.kind(wanted.kind)
        values_of(given, wanted.settings)
        return [given], str(parse_address(wanted.address, given.port))
    every = [context.kinds.kind(name)[0] for name in context.kinds.names()]
    every = [kind for kind in every if kind.reach != "service"]
    if way.via is not None:
        shells = [kind for kind in every if kind.reach == "ssh"]
        return shells, str(parse_address(wanted.address, shells[0].port))
    ports = sorted({kind.port for kind in every}, key=lambda port: (port != _SSH, port))
    dial = await context.machines.dialler(way.site)
    first: Unreachable | None = None
    for address in dict.fromkeys(parse_address(wanted.address, port) for port in ports):
        try:
            reach = "ssh" if await greets_as_ssh(address, dial) else "https"
        except Unreachable as error:
            first = first or error
            continue
        return [kind for kind in every if kind.reach == reach], str(address)
    raise first or BadInput("No kind is known.", "Add one with `fennox kind add`.")


_SSH = 22


async def _related(
    context: Context, kind: Kind, census: Census, systems: list[System]
) -> list[str]:
    """In words, which enrolled systems it names."""
    known = await faces(context, systems)
    found = [
        f"It names {known[host]} in its {listed}, so {known[host]} must be back before it."
        for listed in kind.relies_on
        for host in sorted({host_in(value) for value in census.get(listed, [])} & known.keys())
    ]
    if kind.replicas is not None and (peers := census.get(kind.replicas.list, [])):
        names = ", ".join(sorted({known.get(host_in(peer), peer) for peer in peers}))
        found.append(f"It replicates with {names}. {kind.replicas.means}")
    return found
