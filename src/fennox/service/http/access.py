"""Authorisation of requests. Every request first passes :func:`authorise`, which checks identity,
role and rights, scope, and for a grave act a fresh authentication and an approval.
"""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import AsyncExitStack, asynccontextmanager
from typing import Any

from fastapi import Request
from fastapi.routing import APIRoute
from pydantic import BaseModel, ValidationError
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.errors import (
    BadInput,
    NotAllowed,
    NotSignedIn,
    Outdated,
    PasswordChangeNeeded,
    WrongPassphrase,
)
from fennox.core.words import a
from fennox.service.access_control import approvals, audit
from fennox.service.access_control.approvals import ApprovalAsked
from fennox.service.access_control.attempts import attempt, to_open
from fennox.service.http.rights import BEFORE_A_CHANGE, METRICS, RIGHTS, TABLE, WITHIN
from fennox.service.machines.context import Context, named
from fennox.service.own_state.own_routine import KIND as OWN_KIND
from fennox.service.people import grave_acts, scopes
from fennox.service.people.grave_acts import Grave
from fennox.service.people.persons import Person, must_have
from fennox.service.people.tokens import person_of
from fennox.service.queries import lookups
from fennox.wire.access import Role

COOKIE = "fennox_session"
CONSOLE_HEADER = "x-fennox-console"


async def authorise(request: Request) -> AsyncIterator[None]:
    """Wraps every route: authenticates the person and checks whether they may do this now."""
    context: Context = request.app.state.context
    operation: str = request.scope["endpoint"].__name__
    if context.outdated and operation != "healthz":
        raise Outdated(
            context.outdated, "Stop this process, and start the new version in its place."
        )
    if "\0" in request.url.path or any(
        "\0" in text for pair in request.query_params.multi_items() for text in pair
    ):
        raise BadInput("The address holds the character NUL.", "Nothing has that name.")
    needed = TABLE[operation]
    if needed == "nobody":
        yield
        return
    try:
        who = await _person(request, context)
    except NotSignedIn:
        await audit.not_signed_in(context, request, operation)
        raise
    request.state.person = who
    async with AsyncExitStack() as stack:
        try:
            _must_be_allowed(request, who, operation, needed)
            body = await _body(request)
            if who.scope is not None:
                await _must_reach(context, who, request, operation, body)
            if (act := grave_acts.of(operation, body)) is not None:
                grave_acts.must_be_proved(who)
                if act.approved:
                    asked = await _asked(context, request, operation, act, body)
                    request.state.approval = await stack.enter_async_context(
                        approvals.approved(context, who, asked)
                    )
        except NotAllowed as refusal:
            await audit.refused(context, request, operation, refusal)
            raise
        if request.method in ("GET", "HEAD"):
            scopes.read_within(who.scope)
        if isinstance(body, dict) and body.get("passphrase"):
            await stack.enter_async_context(_passphrase_given(context, request, who, operation))
        yield


@asynccontextmanager
async def _passphrase_given(
    context: Context, request: Request, who: Person, operation: str
) -> AsyncIterator[None]:
    """Wraps a route that takes a passphrase: wrong ones are limited and audited."""
    async with attempt(context, to_open(who.name)) as tried:
        try:
            yield
        except WrongPassphrase as wrong:
            await audit.refused(context, request, operation, wrong)
            raise
        except BaseException:
            tried.passed = True  # some other error; the passphrase was not wrong
            raise
        tried.passed = True


def _must_be_allowed(request: Request, who: Person, operation: str, needed: Role) -> None:
    if (
        who.by_cookie
        and request.method not in ("GET", "HEAD")
        and request.headers.get(CONSOLE_HEADER) != "1"
    ):
        raise NotAllowed("The request does not come from the console.", "Reload the page.")
    if who.must_change and operation not in BEFORE_A_CHANGE:
        raise PasswordChangeNeeded(
            "Your password was set by somebody else; change it first.", "Run: fennox user password"
        )
    if who.kind == "metrics" and operation not in METRICS:
        raise NotAllowed(
            "This token reads metrics, and nothing else.", "Make one of the kind automation."
        )
    if not who.may(needed):
        raise NotAllowed(
            f"{a(who.role).capitalize()} may not do this; it needs {a(needed)}.",
            "Ask an administrator.",
        )
    if (right := RIGHTS.get(operation)) is not None:
        must_have(who, right)
    if who.scope is not None and operation not in WITHIN:
        raise NotAllowed(
            "You reach a part of the estate; this is about all of it.",
            "Ask somebody who reaches the whole estate.",
        )


async def _body(request: Request) -> Any:
    """The JSON body of a request, regardless of its declared type; None if its route reads none.
    Otherwise a request that does not declare JSON would bypass the rules. The route itself rejects
    invalid JSON.
    """
    route: APIRoute = request.scope["route"]
    if route.body_field is None:
        return None
    try:
        return json.loads(await request.body() or b"null")
    except ValueError:
        return None


Lookup = Callable[[AsyncSession, str], Awaitable[Any]]


async def _system(session: AsyncSession, name: str) -> System:
    return await named(session, System, name)


_IN_PATHS: dict[str, Lookup] = {
    "backup": lookups.find_backup,
    "run": lookups.find_run,
    "sheet": lookups.find_sheet,
    "concern": lookups.find_concern,
    "approval": approvals.found,
    # path parameter that names a system in operations allowed within a scope
    "name": _system,
}
_IN_BODIES: dict[str, Lookup] = {
    "system": _system,
    "onto": _system,
    "backup": lookups.find_backup,
    "before": lookups.find_backup,
    "after": lookups.find_backup,
}


async def _must_reach(
    context: Context, who: Person, request: Request, operation: str, body: Any
) -> None:
    """Raise ``NotFound`` for things outside the person's scope, as if they did not exist."""
    given = [
        (_IN_PATHS[name], str(value))
        for name, value in request.path_params.items()
        if name in _IN_PATHS
    ]
    if isinstance(body, dict):
        given += [
            (find, body[name])
            for name, find in _IN_BODIES.items()
            if isinstance(body.get(name), str)
        ]
    with scopes.within(who.scope):
        async with context.session() as session:
            for find, value in given:
                await find(session, value)


async def _asked(
    context: Context, request: Request, operation: str, act: Grave, body: Any
) -> ApprovalAsked:
    """The request as shown to a second person, bound to the present state of what it affects."""
    sheet: SheetRow | None = None
    system: str | None = None
    subject: Any = None
    async with context.session() as session:
        if "sheet" in request.path_params:
            sheet = await lookups.find_sheet(session, request.path_params["sheet"])
            system, subject = (
                sheet.system_id,
                [sheet.id, sheet.version, sheet.data.model_dump(mode="json")],
            )
        elif "backup" in request.path_params:
            backup = await lookups.find_backup(session, request.path_params["backup"])
            system, subject = backup.system_id, backup.id
    return ApprovalAsked(
        operation=operation,
        act=act.act,
        path=request.url.path,
        query=request.url.query,
        body=await request.body() if body is not None else b"",
        values=_values(request, body),
        sheet=sheet.id if sheet is not None else None,
        system=system,
        subject=subject,
    )


def _values(request: Request, body: Any) -> dict[str, object]:
    """The values of a request, with secrets masked by its model; queries contain none."""
    shown: dict[str, object] = dict(request.query_params)
    route: APIRoute = request.scope["route"]
    model = route.body_field.field_info.annotation if route.body_field is not None else None
    for one in getattr(model, "__args__", (model,)):
        if isinstance(one, type) and issubclass(one, BaseModel) and isinstance(body, dict):
            try:
                return shown | one.model_validate(body).model_dump(mode="json", exclude_unset=True)
            except ValidationError:
                return shown  # the route rejects it
    return shown


async def _person(request: Request, context: Context) -> Person:
    header = request.headers.get("authorization", "")
    cookie = request.cookies.get(cookie_name(request))
    token = header.removeprefix("Bearer ") if header.startswith("Bearer ") else None
    if token is None and cookie is None:
        raise NotSignedIn("You are not signed in.", "Sign in, for example with `fennox sign-in`.")
    async with context.session(lasting=False) as session:
        return await person_of(
            session, token or cookie or "", by_cookie=token is None, now=context.wall()
        )


def cookie_name(request: Request) -> str:
    """Under TLS, a name that no other host and no page without TLS can set (RFC 6265bis, section
    4.1.3.2).
    """
    return f"__Host-{COOKIE}" if request.url.scheme == "https" else COOKIE


def may_see(who: Person, kind: str) -> None:
    """Raise if not everybody who may compare may see backups of this kind. Fennox's own state
    contains hashes of passwords and tokens, and the audit.
    """
    if kind == OWN_KIND and who.role != "administrator":
        raise NotAllowed("Only an administrator sees Fennox's own state.", "Ask one.")


async def is_signed_in(request: Request, context: Context) -> bool:
    """Whether the caller's session is still valid: a stream ends with its session."""
    try:
        await _person(request, context)
    except NotSignedIn:
        return False
    return True


def person(request: Request) -> Person:
    found: Person = request.state.person
    return found
