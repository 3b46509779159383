"""New machines for systems, made on hosts."""

from __future__ import annotations

from fastapi import Request

from fennox.core.deploying.deployment import DeploymentAct
from fennox.service.access_control import audit
from fennox.service.deployments import requests
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines.context import Context
from fennox.service.people.persons import Person
from fennox.service.queries.paging import After, Limit
from fennox.service.views import deployments
from fennox.service.views import runs as run_views
from fennox.wire.base import Page
from fennox.wire.machines.deployments import (
    DeploymentListed,
    DeploymentShown,
    MachineNamed,
    NewDeployment,
)
from fennox.wire.watch.runs import RunShown

router = api_router("deployments")


@router.get("/deployments")
async def list_deployments(
    context: Here, limit: Limit = 50, after: After = None
) -> Page[DeploymentListed]:
    """New machines, newest first."""
    async with context.session() as session:
        return await deployments.page(session, limit, after)


@router.get("/deployments/{deployment}")
async def show_deployment(deployment: str, context: Here) -> DeploymentShown:
    """One new machine: what it is made with, by which steps, and how far that is."""
    async with context.session() as session:
        return await deployments.shown(session, await requests.find(session, deployment))


@router.post("/deployments", status_code=202)
async def draft_deployment(
    wanted: NewDeployment, request: Request, context: Here, who: Who
) -> RunShown:
    """Start drafting a new machine for the system of a backup. Reads backup and host; changes
    nothing.
    """
    async with context.session() as session:
        row, run = await requests.draft(context, session, wanted, who.name)
        await audit.note(
            session,
            request,
            "drafted a new machine",
            "system",
            row.data.system_name,
            host=row.data.host_name,
            deployment=row.id,
        )
        return await run_views.fresh(context, session, run)


@router.post("/deployments/{deployment}/start", status_code=202)
async def start_deployment(
    deployment: str, wanted: MachineNamed, request: Request, context: Here, who: Who
) -> RunShown:
    """Make the machine, or go on where that failed."""
    return await _acted(context, request, who, deployment, "begin", wanted.name)


@router.post("/deployments/{deployment}/undo", status_code=202)
async def undo_deployment(
    deployment: str, wanted: MachineNamed, request: Request, context: Here, who: Who
) -> RunShown:
    """Take the machine away from its host."""
    return await _acted(context, request, who, deployment, "undo", wanted.name)


async def _acted(
    context: Context, request: Request, who: Person, deployment: str, act: DeploymentAct, name: str
) -> RunShown:
    async with context.session() as session:
        row = await requests.find(session, deployment)
        run = await requests.act(context, session, row, act, name, who.name)
        await audit.note(
            session,
            request,
            "started to make a machine" if act == "begin" else "had a machine taken away",
            "system",
            row.data.system_name,
            host=row.data.host_name,
            machine=row.data.name,
            deployment=row.id,
            run=run.id,
        )
        return await run_views.fresh(context, session, run)
