"""The HTTP application: the API, the console, and rules for all responses."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from contextlib import AbstractAsyncContextManager

from fastapi import FastAPI, Request, Response

from fennox import __version__
from fennox.service.foundation.fair_share import AnswersFirst, Turns
from fennox.service.http import hosts, pages, problems, rights
from fennox.service.http.bounds import BoundedBodies
from fennox.service.http.guarded import add_routes
from fennox.service.http.routes.backups import (
    backups,
    comparisons,
    deployments,
    drafts,
    notes,
    restores,
    routines,
    runs,
)
from fennox.service.http.routes.estate import audit, clocks, concerns, estate, metrics, workers
from fennox.service.http.routes.people import (
    approvals,
    passkeys,
    people,
    providers,
    session,
    sessions,
)
from fennox.service.http.routes.stores import key_sets, own_state, recovery, stores
from fennox.service.http.routes.systems import (
    drops,
    kinds,
    logins,
    probes,
    retirement,
    sites,
    systems,
)
from fennox.service.http.run_followers import RunHub
from fennox.service.machines.context import Context
from fennox.wire.headers import NOW

_CSP = (
    "default-src 'self'; style-src 'self'; img-src 'self' data:; frame-ancestors 'none'; base-uri"
    " 'none'"
)
_HEADERS = {
    "content-security-policy": _CSP,
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "x-frame-options": "DENY",
}

_ONLY_TLS = "max-age=31536000"  # seconds: a year (RFC 6797)

_MODULES = (
    session, people, sessions, passkeys, providers, approvals, audit, estate, clocks, concerns,
    kinds, systems, probes, retirement, drops, key_sets, stores, logins, own_state,
    recovery, backups, notes, comparisons, routines, deployments, drafts, restores, runs, workers,
    sites,
)  # fmt: skip
_ROUTERS = [module.router for module in _MODULES]
Lifespan = Callable[[FastAPI], AbstractAsyncContextManager[None]]


def make_app(context: Context | None, lifespan: Lifespan | None = None) -> FastAPI:
    """Without a context, only its OpenAPI document is available until ``lifespan`` sets one."""
    app = FastAPI(
        title="Fennox",
        version=__version__,
        description=(
            "Configuration backups that can be put back, and the proof that everything is there"
            " again."
        ),
        openapi_url=None,  # a route of our own, for signed-in people
        docs_url=None,
        redoc_url=None,
        lifespan=lifespan,
    )
    app.state.context = context
    app.state.hub = RunHub()
    app.state.turns = context.turns if context is not None else Turns()
    problems.install(app)
    routers = [*_ROUTERS, estate.health, metrics.router, pages.router]
    add_routes(app, routers)
    rights.check_table(routers)
    app.include_router(sites.doors, prefix="/api/v1")
    app.add_middleware(BoundedBodies)
    app.add_middleware(AnswersFirst, turns=app.state.turns)
    app.middleware("http")(_headers)
    return app


async def _headers(
    request: Request, call_next: Callable[[Request], Awaitable[Response]]
) -> Response:
    here: Context | None = getattr(request.app.state, "context", None)
    if here is not None and not hosts.is_ours(request.headers.get("host", ""), here.settings):
        return problems.problem_of(hosts.refusal(request.headers.get("host", "")))
    response = await call_next(request)
    for name, value in _HEADERS.items():
        response.headers.setdefault(name, value)
    if request.url.scheme == "https":
        response.headers.setdefault("strict-transport-security", _ONLY_TLS)
    if request.url.path.startswith(("/api/", "/metrics")):
        response.headers.setdefault("cache-control", "no-store")
        if here is not None:
            response.headers.setdefault(NOW, here.now().isoformat())
    return response
