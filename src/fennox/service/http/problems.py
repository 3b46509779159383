"""Our errors as problem details (RFC 9457), in this one place."""

from __future__ import annotations

from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from fennox.core import errors
from fennox.core.errors import FennoxError
from fennox.wire.base import Problem

log: Any = structlog.get_logger()

_STATUS: list[tuple[type[FennoxError], int]] = [
    (errors.TooManyAttempts, 429),
    (errors.NotSignedIn, 401),
    (errors.NotAllowed, 403),
    (errors.NotFound, 404),
    (errors.Conflict, 409),
    (errors.TooLarge, 413),
    (errors.CallerMistake, 422),
    (errors.PersonNeeded, 409),
    (errors.Stopped, 409),
    (errors.Outdated, 503),
    (errors.MendSettings, 422),
    (errors.Damaged, 422),
    (errors.TryLater, 503),
    (FennoxError, 500),
]


def problem_of(error: FennoxError) -> JSONResponse:
    status = next(status for kind, status in _STATUS if isinstance(error, kind))
    extra = {name: value for name, value in error.fields.items() if value is not None}
    problem = Problem(
        type=f"urn:fennox:{error.slug}",
        title=error.slug.replace("-", " "),
        status=status,
        detail=error.what,
        remedy=error.remedy,
        **extra,
    )
    return JSONResponse(
        problem.model_dump(mode="json"), status, media_type="application/problem+json"
    )


def install(app: FastAPI) -> None:
    @app.exception_handler(FennoxError)
    async def ours(_request: Request, error: FennoxError) -> JSONResponse:
        return problem_of(error)

    @app.exception_handler(RequestValidationError)
    async def wrong_request(_request: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        field = ".".join(
            str(step) for step in first["loc"] if step not in ("body", "query", "path")
        )
        text = str(first["msg"]).removeprefix("Value error, ")
        return problem_of(
            errors.BadInput(f"{field or 'The request'}: {text}.", "Correct it.", field=field)
        )

    @app.exception_handler(HTTPException)
    async def http(_request: Request, error: HTTPException) -> JSONResponse:
        problem = Problem(
            type="about:blank",
            title=str(error.detail),
            status=error.status_code,
            detail=str(error.detail),
            remedy="",
        )
        return JSONResponse(
            problem.model_dump(mode="json"),
            error.status_code,
            media_type="application/problem+json",
        )

    @app.exception_handler(Exception)
    async def mistake(_request: Request, error: Exception) -> JSONResponse:
        log.error("a mistake in Fennox", exc_info=error)
        return problem_of(FennoxError("A mistake in Fennox.", "Send the log to its makers."))
