"""Workers at sites: admission, and their two WebSockets. The WebSockets are outside the table of
roles: each checks the worker's own token before it opens.
"""

from __future__ import annotations

import asyncio
import ipaddress

import structlog
from fastapi import APIRouter, Request, WebSocket
from pydantic import ValidationError
from starlette.websockets import WebSocketDisconnect

from fennox.catalogue.models.systems import Site
from fennox.core.errors import BadInput, TryLater
from fennox.core.evidence.pushes import CarriedProtocol
from fennox.drop import relayed
from fennox.drop.relayed import Whence
from fennox.links.base import parse_address
from fennox.service.access_control import audit
from fennox.service.drops.spools import spool_folder
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.machines import sites
from fennox.service.machines.context import Context
from fennox.service.machines.sites import Connected
from fennox.service.views import workers as worker_views
from fennox.wire.base import Page
from fennox.wire.machines.sites import (
    REVOKED,
    TRY_AGAIN,
    Hello,
    NewSite,
    Refused,
    SiteAdmitted,
    SiteShown,
)

router = api_router("workers")
doors = APIRouter()

_BEAT = 10.0  # seconds between checks of the token
_HELLO = 15.0  # seconds within which a worker must identify itself

log = structlog.get_logger()


@router.get("/sites")
async def list_sites(context: Here) -> Page[SiteShown]:
    """Sites whose machines are reached through a worker."""
    async with context.session() as session:
        return await worker_views.site_page(session)


@router.post("/sites", status_code=201)
async def admit_site(wanted: NewSite, request: Request, context: Here, who: Who) -> SiteAdmitted:
    """Admit a worker of a site. From then on the site's systems are reached through it."""
    async with context.session() as session:
        token = await sites.admit(session, wanted.name, who.name, context.wall(), anew=wanted.anew)
        await audit.note(session, request, "admitted a worker of", "site", wanted.name)
    return SiteAdmitted(name=wanted.name, token=token)


@router.delete("/sites/{name}", status_code=204)
async def revoke_site(name: str, request: Request, context: Here) -> None:
    """Revoke a worker's token; the site's systems are reached by the service's own network
    again.
    """
    async with context.session() as session:
        await sites.revoke(session, name)
        await audit.note(session, request, "revoked the worker of", "site", name)


@doors.websocket("/sites/worker")
async def come(socket: WebSocket) -> None:
    """A worker's control connection: it identifies itself and receives requests for connections."""
    context: Context = socket.app.state.context
    site = await _admitted(context, socket)
    if site is None:
        return
    connected = Connected(site.name, socket)
    try:
        async with asyncio.timeout(_HELLO):
            hello = Hello.model_validate_json(await socket.receive_text())
        async with context.session() as session:
            await sites.said_hello(session, site.name, hello, context.wall())
        await context.sites.join(connected)
        log.info(
            "the worker of a site has come",
            site=site.name,
            machine=hello.machine,
            version=hello.version,
        )
        await _listen(context, connected, site.token_hash)
    except (WebSocketDisconnect, ValidationError, TimeoutError, KeyError) as error:
        log.info("the worker of a site has gone", site=site.name, reason=type(error).__name__)
    finally:
        if await context.sites.leave(connected):
            async with context.session() as session:
                await sites.gone(session, site.name)


async def _listen(context: Context, connected: Connected, token_hash: str) -> None:
    hearing = asyncio.create_task(connected.control.receive_text())
    try:
        while True:
            done, _ = await asyncio.wait([hearing], timeout=_BEAT)
            if done:
                refused = Refused.model_validate_json(hearing.result())
                context.sites.refused(connected.site, refused.stream, refused.reason)
                hearing = asyncio.create_task(connected.control.receive_text())
            try:
                async with context.session() as session:
                    counts = await sites.heard_of(session, connected.site, token_hash)
            except TryLater:
                continue  # the database may return
            if not counts:
                log.warning(
                    "the worker of a site was sent away: its token was revoked", site=connected.site
                )
                await sites.dismiss(connected, REVOKED)
                return
    finally:
        hearing.cancel()


@doors.websocket("/sites/streams/{stream}")
async def carry(socket: WebSocket, stream: str) -> None:
    """A connection made by a worker for the service."""
    context: Context = socket.app.state.context
    site = await _admitted(context, socket)
    if site is None:
        return
    await context.sites.carry(site.name, stream, socket)


@doors.websocket("/sites/drop")
async def carry_to_drop(
    socket: WebSocket, peer: str = "", protocol: CarriedProtocol = "sftp", port: int = 0
) -> None:
    """A connection of a system that pushes to a site's worker, or fetches from it."""
    context: Context = socket.app.state.context
    site = await _admitted(context, socket)
    if site is None:
        return
    try:
        whence = Whence(
            peer=str(ipaddress.ip_address(peer)),
            site=site.name,
            host=_host(site.drop_ftps or ""),
            ports=site.drop_passive or "",
            port=port,
        )
        folder = spool_folder(context.settings.state)
        connection = await relayed.connect(folder, protocol, whence)
    except (ValueError, OSError, BadInput) as error:
        log.info("a push at a site was not carried", site=site.name, reason=type(error).__name__)
        await socket.close(TRY_AGAIN)
        return
    await context.sites.carry_over(site.name, connection, socket)


def _host(address: str) -> str:
    return parse_address(address, 21).host if address else ""


async def _admitted(context: Context, socket: WebSocket) -> Site | None:
    """Admit a caller with a site's token, and nobody else."""
    scheme, _, token = socket.headers.get("authorization", "").partition(" ")
    site = None
    if scheme == "Bearer":
        async with context.session() as session:
            site = await sites.of_token(session, token)
    if site is None:
        await socket.close(1008)
    else:
        await socket.accept()
    return site
