"""Who may do what: tables for every route, checked against the application at its start and by a
test.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from fastapi import APIRouter, FastAPI
from fastapi.routing import APIRoute

from fennox.service.people import grave_acts
from fennox.wire.access import Right

Needed = Literal["nobody", "reader", "auditor", "operator", "administrator"]


# operation (function name and operationId) → lowest role
TABLE: dict[str, Needed] = {
    "healthz": "nobody",
    "readyz": "nobody",
    "page": "nobody",
    "sign_in": "nobody",
    "who_am_i": "reader",
    "sign_out": "reader",
    "list_passkeys": "reader",
    "begin_passkey": "reader",
    "add_passkey": "reader",
    "remove_passkey": "reader",
    "sign_in_ways": "nobody",
    "begin_provider_sign_in": "nobody",
    "sign_in_with_provider": "nobody",
    "provider_ends_sessions": "nobody",
    "begin_passkey_sign_in": "nobody",
    "sign_in_with_passkey": "nobody",
    "prove_with_passkey": "reader",
    "prove": "reader",
    "change_password": "reader",
    "list_sessions": "reader",
    "end_session": "reader",
    "end_other_sessions": "reader",
    "add_token": "reader",
    "begin_totp": "reader",
    "confirm_totp": "reader",
    "remove_totp": "reader",
    "new_recovery_codes": "reader",
    "list_approvals": "reader",
    "show_approval": "reader",
    "grant_approval": "reader",
    "refuse_approval": "reader",
    "approval_acts": "reader",
    "set_approvals": "administrator",
    "first_user": "nobody",
    "list_users": "auditor",
    "add_user": "administrator",
    "change_user": "administrator",
    "remove_user": "administrator",
    "status": "reader",
    "openapi_document": "reader",
    "audit": "auditor",
    "check_audit": "auditor",
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
    "draft_kind": "administrator",
    "add_system": "administrator",
    "look_at_machine": "administrator",
    "show_system": "reader",
    "show_relations": "reader",
    "show_hazards": "reader",
    "list_hand_ins": "reader",
    "show_drop": "reader",
    "change_drop": "administrator",
    "list_drops": "reader",
    "show_system_drop": "reader",
    "add_drop_login": "administrator",
    "revoke_drop_login": "administrator",
    "discard_arrival": "operator",
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
    "export_backup": "reader",
    "compare_as_patch": "reader",
    "compare_backups": "reader",
    "trace_value": "reader",
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
    "list_deployments": "reader",
    "show_deployment": "reader",
    "draft_deployment": "operator",
    "start_deployment": "operator",
    "undo_deployment": "operator",
    "list_restores": "reader",
    "draft_restore": "operator",
    "show_restore": "reader",
    "start_restore": "operator",
    "undo_restore": "operator",
    "prove_restore": "operator",
    "return_restore": "operator",
    "redraft_restore": "operator",
    "accept_restore": "operator",
    "answer_gate": "operator",
    "release_step": "operator",
    "list_runs": "reader",
    "show_run": "reader",
    "run_log": "reader",
    "run_events": "reader",
    "stop_run": "operator",
    "give_passphrase": "operator",
}


# operations that need a right in addition to the role
RIGHTS: dict[str, Right] = {
    "export_backup": "export",
    "compare_as_patch": "content",
    "compare_backups": "content",
    "trace_value": "content",
}


# allowed with a narrow scope: acts on single systems, or filtered lists
WITHIN = frozenset(
    {
        "who_am_i",
        "sign_out",
        "prove",
        "change_password",
        "list_sessions",
        "end_session",
        "end_other_sessions",
        "add_token",
        "begin_totp",
        "confirm_totp",
        "remove_totp",
        "new_recovery_codes",
        "list_passkeys",
        "begin_passkey",
        "add_passkey",
        "remove_passkey",
        "prove_with_passkey",
        "list_approvals",
        "show_approval",
        "grant_approval",
        "refuse_approval",
        "approval_acts",
        "status",
        "openapi_document",
        "list_kinds",
        "metrics",
        "list_concerns",
        "mute_concern",
        "unmute_concern",
        "list_systems",
        "list_system_names",
        "show_system",
        "show_hazards",
        "probe_system",
        "resume_system",
        "confirm_system",
        "list_hand_ins",
        "list_drops",
        "show_system_drop",
        "discard_arrival",
        "hand_in",
        "list_backups",
        "take_backup",
        "show_backup",
        "list_documents",
        "export_backup",
        "compare_as_patch",
        "compare_backups",
        "trace_value",
        "hold_backup",
        "copy_backup",
        "verify_backup",
        "clear_backup",
        "release_backup",
        "keep_backup",
        "list_removals",
        "list_restores",
        "draft_restore",
        "show_restore",
        "start_restore",
        "undo_restore",
        "prove_restore",
        "return_restore",
        "redraft_restore",
        "accept_restore",
        "answer_gate",
        "release_step",
        "list_runs",
        "show_run",
        "run_log",
        "run_events",
        "stop_run",
        "give_passphrase",
    }
)


# allowed before a forced password change
BEFORE_A_CHANGE = frozenset({"who_am_i", "sign_out", "change_password", "prove"})


METRICS = frozenset({"metrics", "who_am_i"})


def operations(app: FastAPI) -> dict[str, tuple[str, str]]:
    """Every documented operation with its method and path."""
    return {
        operation["operationId"]: (method.upper(), path)
        for path, methods in app.openapi()["paths"].items()
        for method, operation in methods.items()
    }


def check_table(routers: Iterable[APIRouter]) -> None:
    """Check that the table lists every operation; a missing one prevents the service from
    starting.
    """
    names = {
        route.endpoint.__name__
        for router in routers
        for route in router.routes
        if isinstance(route, APIRoute)
    }
    if missing := names - TABLE.keys():
        raise RuntimeError(f"operations without a role: {sorted(missing)}")
    if unknown := (WITHIN | RIGHTS.keys() | grave_acts.TABLE.keys()) - TABLE.keys():
        raise RuntimeError(f"no such operations: {sorted(unknown)}")
