"""Inspecting a machine before it is enrolled: what it is, and what a backup would hold."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy import select

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput, KeyUnknown, Unreachable
from fennox.core.evidence.evaluation import Census, parts_to_take
from fennox.core.facts.return_order import host_in
from fennox.core.format.manifest import Certificate, Finding
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.words import a
from fennox.engine.inspection.recognition import fitting
from fennox.engine.inspection.trial import Tried, try_kind
from fennox.links.base import Link, Web, parse_address
from fennox.links.protocol_greeting import greets_as_ssh
from fennox.service.machines import default_logins, login_uses, sites
from fennox.service.machines.context import Context, named
from fennox.service.machines.routes_to_machines import Way
from fennox.service.people.persons import Person
from fennox.service.systems.relations import faces
from fennox.wire.machines.enrolling import CertificateShown, Looked, LookWanted, TriedPart

_SSH = 22


@dataclass(frozen=True)
class Candidate:
    """A machine that may be enrolled; ``kinds``: possible kinds."""

    address: str
    kinds: list[Kind]
    login: Login
    way: Way


async def candidate(context: Context, wanted: LookWanted) -> Candidate:
    """Raises BadInput and Unreachable."""
    async with context.session() as session:
        login = await named(session, Login, wanted.login)
        via = (await named(session, System, wanted.via)).id if wanted.via else None
    way = Way(wanted.site, via)
    kinds, address = await _candidates(context, wanted, way)
    return Candidate(address, kinds, login, way)


async def look(context: Context, machine: Candidate, wanted: LookWanted, who: Person) -> Looked:
    """Keeps nothing. Raises BadInput if no installed kind matches, and Unreachable."""
    kind = machine.kinds[0]
    settings = wanted.settings if wanted.kind else {}
    use = login_uses.to_enrol(who, machine.login, machine.address, wanted.key, kind, settings)
    try:
        link = await context.machines.connect(kind, use, machine.way)
    except KeyUnknown as error:
        key = str(error.fields["fingerprint"])
        return Looked(address=machine.address, key=key, accepted=False)
    try:
        fits = await _fitting(machine, link)
        looked = Looked(
            address=machine.address,
            key=link.fingerprint,
            accepted=True,
            fits=sorted(kind.name for kind in fits),
        )
        if len(fits) > 1:
            return looked
        kind = fits[0]
        parts = parts_to_take(kind, None)
        tried = await try_kind(
            kind, link, wanted.settings, parts, "", context.readings, lambda _: None
        )
    finally:
        await link.close()
    return looked.model_copy(update=await _held(context, machine, kind, link, tried))


async def _fitting(machine: Candidate, link: Link) -> list[Kind]:
    fits = await fitting(machine.kinds, link)
    if not fits:
        what = f"No installed kind fits the machine at {machine.address}."
        if len(machine.kinds) == 1:
            what = f"The machine at {machine.address} is not {a(machine.kinds[0].title)}."
        raise BadInput(what, "`fennox kind list` shows the installed kinds.")
    return fits


async def _held(
    context: Context, machine: Candidate, kind: Kind, link: Link, tried: Tried
) -> dict[str, object]:
    """Fields of ``Looked``."""
    async with context.session() as session:
        systems = list((await session.execute(select(System))).scalars())
        same = [
            row.name
            for row in systems
            if (row.machine is not None and row.machine.id == tried.machine.id)
            or (
                row.address == machine.address
                and await sites.same_network(session, row.site, machine.way.site)
            )
        ]
    until = link.until if isinstance(link, Web) else None
    own = [CertificateShown(document="", subject="its own", until=until)] if until else []
    return {
        "kind": kind.name,
        "machine": tried.machine,
        "enrolled_as": same[0] if same else None,
        "parts": _parts(kind, tried),
        "census": {name: len(listed) for name, listed in tried.census.items()},
        "findings": [*await _default_logins(context, machine, kind, link), *tried.findings],
        "left_out": tried.left_out,
        "certificates": own + [certificate_shown(item) for item in tried.certificates],
        "related": await _related(context, kind, tried.census, systems),
    }


async def _default_logins(
    context: Context, machine: Candidate, kind: Kind, link: Link
) -> list[Finding]:
    credential = context.machines.credentials.credential(machine.login)
    accounts = await default_logins.still_working(
        context, kind, machine.address, credential, link.fingerprint, machine.way
    )
    return [
        Finding(
            severity="warning",
            code="default-login",
            text=f"The factory login {account} of every new {kind.title} still works.",
            remedy="Change its password.",
        )
        for account in accounts
    ]


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
    """The possible kinds of the answering machine, and the address with its port."""
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


async def _related(
    context: Context, kind: Kind, census: Census, systems: list[System]
) -> list[str]:
    """Sentences about enrolled systems it mentions."""
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


def certificate_shown(item: Certificate) -> CertificateShown:
    until = datetime.fromtimestamp(item.until, UTC)
    return CertificateShown(document=item.document, subject=item.subject, until=until)
