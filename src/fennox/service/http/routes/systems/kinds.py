"""Kinds: shipped ones, and those added by an administrator."""

from __future__ import annotations

from fastapi import Request

from fennox.catalogue.models.systems import System
from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import named
from fennox.service.systems import kind_draft, kinds, probe
from fennox.wire.base import Page
from fennox.wire.kinds import KindDrafted, KindDraftWanted, KindShown, NewKind

router = api_router("systems")


@router.get("/kinds")
async def list_kinds(context: Here) -> Page[KindShown]:
    """The kinds this service knows."""
    installed = [context.kinds.kind(name)[0] for name in context.kinds.names()]
    return Page(items=[kinds.kind_shown(kind) for kind in installed])


@router.post("/kinds/draft")
async def draft_kind(wanted: KindDraftWanted, request: Request, context: Here) -> KindDrafted:
    """A first kind file for a package that is installed on a system, from what dpkg says of it."""
    async with context.session() as session:
        row = await named(session, System, wanted.system)
        login = await probe.login_of(session, row)
        await audit.note(session, request, "asked", "system", row.name, package=wanted.package)
    return KindDrafted(text=await kind_draft.draft(context, row, login, wanted.package))


@router.post("/kinds", status_code=201)
async def add_kind(wanted: NewKind, request: Request, context: Here, who: Who) -> KindShown:
    """Add a kind, or a newer version of an added one. Its commands run on machines under their
    logins.
    """
    async with context.session() as session:
        kind = await kinds.add_kind(context, session, wanted.text, who.name)
        await audit.note(session, request, "added", "kind", kind.name, version=str(kind.version))
    async with context.session() as session:
        await context.kinds.learn(session)
    return kinds.kind_shown(kind)
