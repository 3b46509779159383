"""Routers whose routes are complete when declared: prefix, guard and response types. When routers
are nested, FastAPI builds every route again, at inclusion and at the first request, which was over
half of the service's start-up time.
"""

from __future__ import annotations

from collections.abc import Iterable

from fastapi import APIRouter, Depends, FastAPI
from fastapi.routing import APIRoute

from fennox.service.http.access import authorise
from fennox.wire.base import Problem

_PREFIX = "/api/v1"


def api_router(tag: str) -> APIRouter:
    """Operations of the API."""
    return guarded_router(tag, _PREFIX)


def guarded_router(tag: str | None, prefix: str = "", *, in_schema: bool = True) -> APIRouter:
    return APIRouter(
        prefix=prefix,
        tags=[tag] if tag is not None else None,
        dependencies=[Depends(authorise)],
        responses={"default": {"model": Problem, "description": "A problem (RFC 9457)"}},
        generate_unique_id_function=lambda route: route.name,
        include_in_schema=in_schema,
    )


def add_routes(app: FastAPI, routers: Iterable[APIRouter]) -> None:
    """Add routes unchanged. An unguarded route prevents the service from starting."""
    for router in routers:
        for route in router.routes:
            guards = route.dependant.dependencies if isinstance(route, APIRoute) else []
            if not any(guard.call is authorise for guard in guards):
                raise RuntimeError(f"a route that nobody guards: {route}")
            app.router.routes.append(route)
