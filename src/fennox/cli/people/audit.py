"""The audit: who did what, and whether its entries are unchanged."""

from __future__ import annotations

import argparse
from datetime import datetime

from fennox.cli.main import FAILED, Environment
from fennox.cli.output import say, show_list, when
from fennox.cli.signed_in import client
from fennox.core.errors import BadInput
from fennox.wire.access import AuditEntry


def list_entries(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.audit(
            arguments.limit,
            by=arguments.by,
            noun=arguments.noun,
            about=arguments.about,
            action=arguments.action,
            address=arguments.address,
            since=_moment(arguments.since),
            until=_moment(arguments.until),
        )
    show_list(
        found,
        [
            ("AT", lambda entry: when(entry.at)),
            ("BY", lambda entry: entry.by),
            ("FROM", lambda entry: entry.address or "-"),
            ("DID", lambda entry: f"{entry.action} {entry.noun} {entry.name[:40]}"),
            ("DETAILS", _details),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="Nothing like that was done.",
        spare=("FROM",),
    )


def _details(entry: AuditEntry) -> str:
    return ", ".join(f"{key} {value}" for key, value in entry.details.items() if value)


def _moment(text: str | None) -> datetime | None:
    if text is None:
        return None
    try:
        return datetime.fromisoformat(text).astimezone()
    except ValueError as error:
        raise BadInput(
            f"{text!r} is no date or time.", "Write 2026-03-01 or 2026-03-01T12:00."
        ) from error


def check(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        found = service.check_audit()
    if arguments.json:
        print(found.model_dump_json(indent=2))
    elif arguments.quiet:
        print("\n".join(found.faults))
    else:
        for fault in found.faults:
            say(fault)
        whole = (
            "Their chain is broken." if found.faults else "Each holds the digest of the one before."
        )
        say(f"{found.entries} entries. {whole}")
        if found.backup is not None:
            say(
                f"Compared with Fennox's own backup {found.backup[:12]}, which has {found.held} of"
                " them."
            )
            newer = found.entries - found.held
            if newer > 0:
                say(
                    f"The newest {newer} lie in the database alone: anyone who can write there"
                    " could have changed them and recomputed the chain."
                )
        if found.not_checked:
            say(f"Not compared with a backup of Fennox itself: {found.not_checked}")
    return FAILED if found.faults else 0
