"""Approvals by a second person: listing, granting and refusing them, and choosing which acts need
them.
"""

from __future__ import annotations

import argparse

from fennox.cli.estate import run_sheets
from fennox.cli.main import Environment
from fennox.cli.output import out, say, show_list, show_one, when
from fennox.cli.people.people import sure
from fennox.cli.signed_in import client
from fennox.wire.access import ApprovalActs, ApprovalShown


def list_approvals(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.approvals(all=arguments.all)
    show_list(
        found,
        [
            ("APPROVAL", lambda one: one.id[:12]),
            ("BY", lambda one: one.by + (" (you)" if one.mine else "")),
            ("ACT", lambda one: one.act),
            ("WHAT", _what),
            ("STATE", lambda one: one.state + (f" by {one.decided_by}" if one.decided_by else "")),
            ("SINCE", lambda one: when(one.at)),
            ("UNTIL", lambda one: when(one.until)),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="Nothing waits for a second person.",
    )


def _what(one: ApprovalShown) -> str:
    return f"{one.operation.replace('_', ' ')} {one.about}"


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.approval(arguments.approval)
        sheet = service.sheet(found.sheet) if found.sheet is not None else None
    _show(found, arguments)
    if sheet is not None and not arguments.json and not arguments.quiet:
        out.print()
        run_sheets.print_sheet(sheet)


def _show(one: ApprovalShown, arguments: argparse.Namespace) -> None:
    lines: list[tuple[str, object]] = [
        ("approval", one.id[:12]), ("by", one.by), ("act", one.act), ("what", _what(one)),
        *[(shown.name, shown.value) for shown in one.shown],
        ("state", one.state), ("since", when(one.at)), ("until", when(one.until)),
        *([("decided by", one.decided_by)] if one.decided_by else []),
        *([("because", one.because)] if one.because else []),
    ]  # fmt: skip
    show_one(one, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


def grant(arguments: argparse.Namespace, environment: Environment) -> None:
    if not arguments.yes:
        shown = argparse.Namespace(
            approval=arguments.approval, json=False, quiet=arguments.json or arguments.quiet
        )
        show(shown, environment)
        sure("Let this be done?", arguments)
    _decide(arguments, environment, grant=True)


def refuse(arguments: argparse.Namespace, environment: Environment) -> None:
    _decide(arguments, environment, grant=False)


def _decide(arguments: argparse.Namespace, environment: Environment, *, grant: bool) -> None:
    with client(environment) as service:
        found = service.decide(arguments.approval, grant=grant, because=arguments.because)
    if arguments.json or arguments.quiet:
        _show(found, arguments)
    elif grant:
        say(f"{found.by} may do exactly this, once, until {when(found.until)}.")
    else:
        say(f"{found.by} may not do this.")


def need(arguments: argparse.Namespace, environment: Environment) -> None:
    """Show or change which acts need a second person."""
    with client(environment) as service:
        if arguments.acts is None:
            found = service.approval_acts()
        else:
            acts = [one for one in arguments.acts.split(",") if one and one != "none"]
            found = service.set_approvals(ApprovalActs.model_validate({"acts": acts}))
    lines: list[tuple[str, object]] = [
        ("needs a second person", ", ".join(found.acts) or "nothing")
    ]
    if arguments.quiet:
        print("\n".join(found.acts))
    else:
        show_one(found, as_json=arguments.json, quiet=False, key="acts", lines=lines)
