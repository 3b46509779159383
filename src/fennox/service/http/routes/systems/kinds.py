"""Kinds: those that ship, and those that an administrator added."""

from __future__ import annotations

from fastapi import APIRouter, Request
from sqlalchemy import func, select

from fennox.catalogue.models.systems import KindRow
from fennox.core.errors import BadInput, Conflict
from fennox.core.kind_files import in_sentences
from fennox.core.kind_files.loading import checked
from fennox.core.kinds.model import Kind
from fennox.service.access_control import audit
from fennox.service.http.routes.people.session import Here, Who
from fennox.wire.base import Page
from fennox.wire.kinds import KindShown, NewKind, PartShown

router = APIRouter(tags=["systems"])


def parts_of(kind: Kind) -> list[PartShown]:
    return [
        PartShown(
            name=part.name,
            title=part.title,
            essential=part.essential,
            default=part.default,
            needs=part.needs,
            uses=part.uses,
            overwrites=part.overwrites,
            documents=in_sentences.documents(part),
        )
        for part in kind.part
    ]


@router.get("/kinds")
async def list_kinds(context: Here) -> Page[KindShown]:
    """The kinds this service knows."""
    return Page(items=[_kind_shown(context.kinds.kind(name)[0]) for name in context.kinds.names()])


@router.post("/kinds", status_code=201)
async def add_kind(wanted: NewKind, request: Request, context: Here, who: Who) -> KindShown:
    """Add a kind, or a newer version of one that was added. Its commands run on machines under
    their logins.
    """
    kind = checked(wanted.text, context.kinds.text)
    if kind.name in context.kinds.shipped():
        raise Conflict(f"The kind {kind.name} ships with Fennox.", "Give yours another name.")
    if kind.reach == "service":
        raise BadInput("Only Fennox itself is reached as a service.", "Reach it by ssh or https.")
    async with context.session() as session:
        newest = select(func.max(KindRow.version)).where(KindRow.name == kind.name)
        known = (await session.execute(newest)).scalar_one_or_none()
        if known is not None and kind.version <= known:
            raise Conflict(
                f"Version {known} of {kind.name} is here already.",
                f"Make it version = {known + 1}.",
            )
        session.add(
            KindRow(
                name=kind.name,
                version=kind.version,
                text=wanted.text,
                added=context.now(),
                by=who.name,
            )
        )
        await audit.note(session, request, "added", "kind", kind.name, version=str(kind.version))
    async with context.session() as session:
        await context.kinds.learn(session)
    return _kind_shown(kind)


def _entrance(kind: Kind) -> str:
    found = kind.restore.entrance if kind.restore is not None else None
    return f"{found.reach}, port {found.port}" if found is not None else ""


def _kind_shown(kind: Kind) -> KindShown:
    return KindShown(
        name=kind.name,
        version=kind.version,
        title=kind.title,
        about=kind.about.strip(),
        reach=kind.reach,
        port=kind.port,
        entrance=_entrance(kind),
        settings={key: setting.title for key, setting in kind.settings.items()},
        defaults={key: setting.default for key, setting in kind.settings.items()},
        parts=parts_of(kind),
        census=list(kind.census),
        left_out=kind.left_out,
        rules=in_sentences.rules(kind),
        steps=[f"{phase}: {step.title}" for phase, step in kind.steps()],
    )
