"""Who may do what: one table for every route, held against the application when it starts and by a test."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from fastapi import APIRouter, FastAPI, Request
from fastapi.routing import APIRoute

from fennox.core.errors import BadInput, NotAllowed, NotSignedIn, Outdated
from fennox.core.words import a
from fennox.service.context import Context
from fennox.service.ownroutine import KIND as OWN_KIND
from fennox.service.signin import Person, person_of

Needed = Literal["nobody", "reader", "operator", "administrator"]

COOKIE = "fennox_session"
CONSOLE_HEADER = "x-fennox-console"
RANK: dict[Needed, int] = {"nobody": 0, "reader": 1, "operator": 2, "administrator": 3}

# the operation (the name of its function, and its operationId) → the least role
TABLE: dict[str, Needed] = {
    "healthz": "nobody",
    "readyz": "nobody",
    "page": "nobody",
    "sign_in": "nobody",
    "who_am_i": "reader",
    "sign_out": "reader",
    "first_user": "nobody",
    "list_users": "administrator",
    "add_user": "administrator",
    "remove_user": "administrator",
    "status": "reader",
    "audit": "administrator",
    "list_kinds": "reader",
    "list_stores": "reader",
    "add_store": "administrator",
    "show_store": "reader",
    "test_store": "operator",
    "change_store": "administrator",
    "remove_store": "administrator",
    "look": "administrator",
    "browse_store": "administrator",
    "list_logins": "reader",
    "add_login": "administrator",
    "change_login": "administrator",
    "remove_login": "administrator",
    "admit_login": "administrator",
    "revoke_login": "administrator",
    "list_systems": "reader",
    "list_system_names": "reader",
    "add_kind": "administrator",
    "add_system": "administrator",
    "look_at_machine": "administrator",
    "show_system": "reader",
    "show_relations": "reader",
    "list_hand_ins": "reader",
    "hand_in": "operator",
    "return_order": "reader",
    "change_system": "administrator",
    "probe_system": "operator",
    "resume_system": "operator",
    "retire_system": "administrator",
    "remove_system": "administrator",
    "confirm_system": "operator",
    "list_backups": "reader",
    "take_backup": "operator",
    "show_backup": "reader",
    "list_documents": "reader",
    "export_backup": "administrator",
    "compare_as_patch": "operator",
    "compare_backups": "operator",
    "trace_value": "operator",
    "hold_backup": "operator",
    "copy_backup": "operator",
    "verify_backup": "operator",
    "scrub_store": "operator",
    "own_state": "reader",
    "keep_own_state": "administrator",
    "recovery_sheet": "administrator",
    "list_key_sets": "reader",
    "add_passphrase": "administrator",
    "try_passphrase": "operator",
    "withdraw_passphrase": "administrator",
    "change_custody": "administrator",
    "hand_over": "administrator",
    "rekey": "administrator",
    "go_on_rekeying": "administrator",
    "adopt_store": "administrator",
    "adopt_backups": "administrator",
    "sweep_store": "administrator",
    "store_damage": "reader",
    "store_space": "reader",
    "clear_backup": "operator",
    "release_backup": "operator",
    "keep_backup": "operator",
    "list_removals": "reader",
    "list_marked": "reader",
    "show_clocks": "reader",
    "confirm_clocks": "administrator",
    "list_concerns": "reader",
    "mute_concern": "operator",
    "unmute_concern": "operator",
    "list_alerts": "reader",
    "add_alert": "administrator",
    "change_alert": "administrator",
    "remove_alert": "administrator",
    "test_alert": "administrator",
    "metrics": "reader",
    "list_workers": "reader",
    "drain_worker": "administrator",
    "list_sites": "reader",
    "admit_site": "administrator",
    "revoke_site": "administrator",
    "list_routines": "reader",
    "add_routine": "administrator",
    "preview_new": "reader",
    "show_routine": "reader",
    "change_routine": "administrator",
    "remove_routine": "administrator",
    "preview_routine": "reader",
    "coming_runs": "reader",
    "calendar_of_runs": "reader",
    "list_restores": "reader",
    "draft_restore": "operator",
    "show_restore": "reader",
    "start_restore": "operator",
    "undo_restore": "operator",
    "answer_gate": "operator",
    "list_runs": "reader",
    "show_run": "reader",
    "run_log": "reader",
    "run_events": "reader",
    "stop_run": "operator",
    "give_passphrase": "operator",
}


def operations(app: FastAPI) -> dict[str, tuple[str, str]]:
    """Every documented operation with its method and path."""
    return {
        operation["operationId"]: (method.upper(), path)
        for path, methods in app.openapi()["paths"].items()
        for method, operation in methods.items()
    }


def check_table(routers: Iterable[APIRouter]) -> None:
    """Every operation stands in the table; one that does not keeps the service from starting."""
    names = {route.endpoint.__name__ for router in routers for route in router.routes if isinstance(route, APIRoute)}
    missing = names - TABLE.keys()
    if missing:
        raise RuntimeError(f"operations without a role: {sorted(missing)}")


async def authorise(request: Request) -> None:
    """Runs before every route: signs the person in, and holds the role against the table."""
    context: Context = request.app.state.context
    if context.outdated and request.scope["endpoint"].__name__ != "healthz":
        raise Outdated(context.outdated, "Stop this process, and start the new version in its place.")
    if "\0" in request.url.path or any("\0" in text for pair in request.query_params.multi_items() for text in pair):
        raise BadInput("The address holds the character NUL.", "Nothing is called so.")
    needed = TABLE[request.scope["endpoint"].__name__]
    if needed == "nobody":
        return
    person = await _person(request, context)
    if person.by_cookie and request.method not in ("GET", "HEAD") and request.headers.get(CONSOLE_HEADER) != "1":
        raise NotAllowed("The request does not come from the console.", "Reload the page.")
    if RANK[person.role] < RANK[needed]:
        who = a(person.role).capitalize()
        raise NotAllowed(f"{who} may not do this; it needs {a(needed)}.", "Ask an administrator.")
    request.state.person = person


async def _person(request: Request, context: Context) -> Person:
    header = request.headers.get("authorization", "")
    cookie = request.cookies.get(COOKIE)
    token = header.removeprefix("Bearer ") if header.startswith("Bearer ") else None
    if token is None and cookie is None:
        raise NotSignedIn("You are not signed in.", "Sign in, for example with `fennox sign-in`.")
    async with context.session() as session:
        return await person_of(session, token or cookie or "", by_cookie=token is None, now=context.wall())


def may_see(who: Person, kind: str) -> None:
    """Raise if what a backup of this kind holds is not for all who may compare.

    Fennox's own state has the hashes of passwords and tokens, and the audit.
    """
    if kind == OWN_KIND and who.role != "administrator":
        raise NotAllowed("Only an administrator sees Fennox's own state.", "Ask one.")


async def is_signed_in(request: Request, context: Context) -> bool:
    """Whether who asked is so still: a stream ends with the session it began under."""
    try:
        await _person(request, context)
    except NotSignedIn:
        return False
    return True


def person(request: Request) -> Person:
    found: Person = request.state.person
    return found
