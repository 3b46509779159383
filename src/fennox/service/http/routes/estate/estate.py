"""The state of the estate: status and health."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import JSONResponse

from fennox.service.http.guarded import api_router, guarded_router
from fennox.service.http.routes.people.session import Here
from fennox.service.upkeep import store_duties
from fennox.service.views import concerns as concern_views
from fennox.wire.watch.runs import Status

router = api_router("estate")
health = guarded_router("health")


@router.get("/status")
async def status(context: Here) -> Status:
    """Concerns, and how much is protected."""
    await store_duties.watch_folders(context)
    async with context.session() as session:
        return await concern_views.status(context, session)


@router.get("/openapi.json", include_in_schema=False)
async def openapi_document(request: Request) -> JSONResponse:
    """This description of the API (OpenAPI 3.1)."""
    return JSONResponse(request.app.openapi())


@health.get("/healthz")
async def healthz() -> dict[str, str]:
    """Liveness: the process answers."""
    return {"state": "alive"}


@health.get("/readyz")
async def readyz(context: Here) -> dict[str, str]:
    """Readiness: the database answers as well."""
    await context.must_reach_database()
    return {"state": "ready"}
