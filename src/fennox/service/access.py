"""Who may do what: one table for every route, held against the application when it starts and by a test."""

from __future__ import annotations

from typing import Literal

from fastapi import FastAPI, Request
from fastapi.routing import APIRoute

from fennox.core.errors import NotAllowed, NotSignedIn
from fennox.service.context import Context
from fennox.service.signin import Person, person_of

Needed = Literal["nobody", "reader", "operator", "administrator"]

COOKIE = "fennox_session"
CONSOLE_HEADER = "x-fennox-console"
RANK: dict[Needed, int] = {"nobody": 0, "reader": 1, "operator": 2, "administrator": 3}

_API = "/api/v1"
TABLE: dict[tuple[str, str], Needed] = {
    ("GET", "/healthz"): "nobody",
    ("GET", "/readyz"): "nobody",
    ("GET", "/{path:path}"): "nobody",
    ("POST", f"{_API}/session"): "nobody",
    ("GET", f"{_API}/session"): "reader",
    ("DELETE", f"{_API}/session"): "reader",
    ("POST", f"{_API}/first-user"): "nobody",
    ("GET", f"{_API}/status"): "reader",
    ("GET", f"{_API}/kinds"): "reader",
    ("GET", f"{_API}/stores"): "reader",
    ("POST", f"{_API}/stores"): "administrator",
    ("GET", f"{_API}/stores/{{name}}"): "reader",
    ("POST", f"{_API}/stores/{{name}}/test"): "operator",
    ("GET", f"{_API}/logins"): "reader",
    ("POST", f"{_API}/logins"): "administrator",
    ("PATCH", f"{_API}/logins/{{name}}"): "administrator",
    ("DELETE", f"{_API}/logins/{{name}}"): "administrator",
    ("GET", f"{_API}/systems"): "reader",
    ("POST", f"{_API}/systems"): "administrator",
    ("GET", f"{_API}/systems/{{name}}"): "reader",
    ("PATCH", f"{_API}/systems/{{name}}"): "administrator",
    ("POST", f"{_API}/systems/{{name}}/probe"): "operator",
    ("POST", f"{_API}/systems/{{name}}/confirm"): "operator",
    ("GET", f"{_API}/backups"): "reader",
    ("POST", f"{_API}/backups"): "operator",
    ("GET", f"{_API}/backups/{{backup}}"): "reader",
    ("GET", f"{_API}/backups/{{backup}}/documents"): "reader",
    ("POST", f"{_API}/backups/{{backup}}/export"): "operator",
    ("POST", f"{_API}/backups/{{backup}}/hold"): "operator",
    ("POST", f"{_API}/backups/{{backup}}/release"): "operator",
    ("GET", f"{_API}/routines"): "reader",
    ("POST", f"{_API}/routines"): "administrator",
    ("POST", f"{_API}/routines/preview"): "reader",
    ("GET", f"{_API}/routines/{{name}}"): "reader",
    ("PATCH", f"{_API}/routines/{{name}}"): "administrator",
    ("DELETE", f"{_API}/routines/{{name}}"): "administrator",
    ("GET", f"{_API}/routines/{{name}}/preview"): "reader",
    ("GET", f"{_API}/restores"): "reader",
    ("POST", f"{_API}/restores"): "operator",
    ("GET", f"{_API}/restores/{{sheet}}"): "reader",
    ("POST", f"{_API}/restores/{{sheet}}/start"): "operator",
    ("POST", f"{_API}/restores/{{sheet}}/answer"): "operator",
    ("GET", f"{_API}/runs"): "reader",
    ("GET", f"{_API}/runs/{{run}}"): "reader",
    ("GET", f"{_API}/runs/{{run}}/log"): "reader",
    ("GET", f"{_API}/runs/{{run}}/events"): "reader",
    ("POST", f"{_API}/runs/{{run}}/stop"): "operator",
    ("POST", f"{_API}/runs/{{run}}/passphrase"): "operator",
    ("GET", f"{_API}/audit"): "administrator",
    ("GET", f"{_API}/openapi.json"): "nobody",
}


def check_table(app: FastAPI) -> None:
    """Every route stands in the table; one that does not keeps the service from starting."""
    routes = {
        (method, route.path) for route in app.routes if isinstance(route, APIRoute) for method in route.methods or ()
    }
    missing = routes - TABLE.keys()
    if missing:
        raise RuntimeError(f"routes without a role: {sorted(missing)}")


async def authorise(request: Request) -> None:
    """Runs before every route: signs the person in, and holds the role against the table."""
    context: Context = request.app.state.context
    route: APIRoute = request.scope["route"]
    needed = TABLE[(request.method, route.path)]
    if needed == "nobody":
        return
    person = await _person(request, context)
    if person.by_cookie and request.method not in ("GET", "HEAD") and request.headers.get(CONSOLE_HEADER) != "1":
        raise NotAllowed("The request does not come from the console.", "Reload the page.")
    if RANK[person.role] < RANK[needed]:
        raise NotAllowed(f"A {person.role} may not do this; it needs an {needed}.", "Ask an administrator.")
    request.state.person = person


async def _person(request: Request, context: Context) -> Person:
    header = request.headers.get("authorization", "")
    cookie = request.cookies.get(COOKIE)
    token = header.removeprefix("Bearer ") if header.startswith("Bearer ") else None
    if token is None and cookie is None:
        raise NotSignedIn("You are not signed in.", "Sign in, for example with `fennox sign-in`.")
    async with context.session() as session:
        return await person_of(session, token or cookie or "", by_cookie=token is None, now=context.now())


def person(request: Request) -> Person:
    found: Person = request.state.person
    return found
