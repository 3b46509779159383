"""Grave acts: operations that need a fresh authentication, and approval by a second person if an
administrator enabled it. One table for all routes (10-security, 2).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fennox.core.errors import ProofNeeded
from fennox.service.people.persons import Person
from fennox.service.people.tokens import FRESH
from fennox.wire.access import Act


@dataclass(frozen=True)
class Grave:
    """``fields``: grave only if the request has one of them. ``approved``: approval by a second
    person can be required.
    """

    act: Act
    fields: frozenset[str] = frozenset()
    approved: bool = True


_AIMS = frozenset({"address", "login", "key", "via"})

TABLE: dict[str, Grave] = {
    "start_restore": Grave("restore"),
    "undo_restore": Grave("restore"),
    "accept_restore": Grave("restore"),
    "start_deployment": Grave("restore"),
    "undo_deployment": Grave("restore"),
    "export_backup": Grave("export"),
    "recovery_sheet": Grave("export"),
    "add_passphrase": Grave("keys"),
    "withdraw_passphrase": Grave("keys"),
    "change_custody": Grave("keys"),
    "hand_over": Grave("keys"),
    "rekey": Grave("keys"),
    "adopt_store": Grave("keys"),
    "add_user": Grave("people"),
    "change_user": Grave("people"),
    "remove_user": Grave("people"),
    "set_approvals": Grave("people"),
    "add_token": Grave("people", approved=False),
    "change_password": Grave("people", approved=False),
    "begin_totp": Grave("people", approved=False),
    "remove_totp": Grave("people", approved=False),
    "begin_passkey": Grave("people", approved=False),
    "remove_passkey": Grave("people", approved=False),
    "new_recovery_codes": Grave("people", approved=False),
    "grant_approval": Grave("people", approved=False),
    "admit_site": Grave("people"),
    "add_login": Grave("logins"),
    "change_drop": Grave("logins", approved=False),
    "add_drop_login": Grave("logins", approved=False),
    "change_login": Grave("logins"),
    "remove_login": Grave("logins"),
    "admit_login": Grave("logins"),
    "add_system": Grave("logins", approved=False),
    "look_at_machine": Grave("logins", approved=False),
    "change_system": Grave("logins", _AIMS),
    "add_store": Grave("logins", approved=False),
    "look": Grave("logins", approved=False),
    "change_store": Grave("logins", frozenset({"login", "sweep_login", "key"})),
    "add_kind": Grave("kinds"),
    "add_alert": Grave("alerts"),
    "change_alert": Grave("alerts"),
    "remove_alert": Grave("alerts"),
}
"""Operation → why it is grave."""


def of(operation: str, body: Any) -> Grave | None:
    """Whether this request is a grave act; ``body``: its JSON."""
    grave = TABLE.get(operation)
    if grave is None or not grave.fields:
        return grave
    given = (
        {name for name, value in body.items() if value is not None}
        if isinstance(body, dict)
        else set()
    )
    return grave if given & grave.fields else None


def must_be_proved(who: Person) -> None:
    """Raise unless the person has authenticated within the last minutes."""
    if who.proved:
        return
    minutes = int(FRESH.total_seconds() // 60)
    if who.kind in ("automation", "metrics"):
        raise ProofNeeded(
            f"This needs a person who has proved within {minutes} minutes who they are; a token"
            " cannot.",
            "Do it signed in as a person.",
        )
    raise ProofNeeded(
        f"This needs a proof within the last {minutes} minutes of who you are.",
        "Prove it: fennox sign-in --again",
    )
