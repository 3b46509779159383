"""The restore: drafting the run sheet, reading it, starting it, answering its gates."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator

from fennox.cli.estate import runs
from fennox.cli.host_keys import with_both_keys
from fennox.cli.main import PERSON, Environment
from fennox.cli.output import ask, can_ask, out, say, show_list, show_table, when
from fennox.cli.signed_in import client
from fennox.client.api import Client
from fennox.core.errors import PersonNeeded
from fennox.core.facts.run_results import DraftResult
from fennox.core.names import printable
from fennox.core.restoring.sheet import Proof, Sheet, SheetStep
from fennox.core.words import first_few
from fennox.wire.restores import EntranceWanted, NewDraft, SheetShown
from fennox.wire.watch.runs import RunShown

_STYLE = {"blocker": "bold red", "warning": "yellow", "note": "dim"}


def draft(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:

        def attempt(key: str | None, entrance_key: str | None) -> RunShown:
            entrance = EntranceWanted(
                at=arguments.entrance, login=arguments.entrance_login, key=entrance_key
            )
            return service.draft(
                NewDraft(
                    backup=arguments.backup,
                    onto=arguments.onto,
                    at=arguments.at,
                    login=arguments.login,
                    key=key,
                    parts=arguments.part,
                    entrance=entrance,
                    wait=not arguments.no_wait,
                )
            )

        run = with_both_keys(attempt, arguments.accept_key, arguments.accept_entrance_key)
        run = runs.watch(service, run.id, arguments)
        if run.state != "done":
            return runs.ending(run)
        shown = service.sheet(run.told(DraftResult).sheet)
    _show(shown, arguments)
    if not arguments.json and not arguments.quiet:
        say(f"Nothing has been changed. Begin with: fennox restore start {shown.id[:12]}")
    return PERSON if shown.sheet.blockers() else 0


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service.sheet(arguments.sheet), arguments)


def _show(shown: SheetShown, arguments: argparse.Namespace) -> None:
    if arguments.json:
        print(json.dumps(shown.model_dump(mode="json"), indent=2))
    elif arguments.quiet:
        print(shown.id)
    else:
        print_sheet(shown)


def print_sheet(shown: SheetShown) -> None:
    """In words: what is done to what, and what speaks against it."""
    sheet = shown.sheet
    for label, value in _headed(shown):
        out.print(f"[dim]{label:17}[/dim]", end="")
        out.print(value, markup=False, soft_wrap=True)
    _findings(sheet)
    out.print()
    _step_table(sheet.steps)
    _undo(sheet)
    gate = sheet.open_gate()
    if gate is not None:
        out.print(f"\n[bold]Needs a person:[/bold] gate {gate.number}: ", end="")
        out.print(gate.question, f"({' or '.join(gate.choices)})", markup=False, soft_wrap=True)
    if sheet.proof is not None:
        _proof(sheet.proof)


def _headed(shown: SheetShown) -> Iterator[tuple[str, str]]:
    sheet, place = shown.sheet, shown.sheet.after.place
    made = f"version {sheet.version}, by {shown.by}, {when(shown.created)}"
    yield "run sheet", f"{shown.id[:12]} ({sheet.state}), {made}"
    yield "backup", f"{sheet.backup[:12]} of {sheet.system_name}{_taken(sheet)}"
    target = f"{sheet.target.address} as {sheet.target.account}"
    yield "target", f"{target}, machine {sheet.target_machine}"
    if sheet.entrance:
        yield "acting at", f"{sheet.entrance.address} as {sheet.entrance.account}"
    yield "version", f"{sheet.target_product} {sheet.target_version}"
    yield "parts", ", ".join(sheet.parts)
    settings = (f"{name}={value}" for name, value in sheet.settings.items())
    yield "settings", "; ".join(settings) or "none"
    yield "afterwards at", f"{place.address}: {sheet.after.address_because}"
    yield "signing in as", f"{place.account}: {sheet.after.account_because}"
    yield "known by", f"{place.key}: {sheet.after.key_because}"
    yield "restarts", "; ".join(sheet.restarts) or "nothing"
    yield "cannot be undone", "; ".join(sheet.cannot_be_undone) or "nothing"


def _taken(sheet: Sheet) -> str:
    return f", taken {when(sheet.backup_taken)}" if sheet.backup_taken is not None else ""


def _findings(sheet: Sheet) -> None:
    out.print()
    for severity in ("blocker", "warning", "note"):
        for finding in sheet.findings:
            if finding.severity == severity:
                out.print(f"[{_STYLE[severity]}]{severity:8}[/]", end=" ")
                out.print(finding.text, finding.remedy, markup=False, soft_wrap=True)
    over = sheet.overwrites
    for title, names, count in (
        ("overwritten", over.changed, over.changed_count),
        ("added", over.added, over.added_count),
    ):
        if names:
            listed = first_few([*map(printable, names)], len(names), in_all=count)
            out.print(f"[dim]{title:12}[/dim]", end=" ")
            out.print(listed, markup=False, soft_wrap=True)


def _step_table(steps: list[SheetStep]) -> None:
    rows: list[list[object]] = []
    for step in steps:
        took = (
            f"{(step.ended - step.started).total_seconds():.1f} s"
            if step.started and step.ended
            else ""
        )
        rows.append(
            [
                step.number,
                step.phase,
                step.state,
                step.title + (" (restarts)" if step.restarts else ""),
                took,
                step.detail,
            ]
        )
        sign = "?" if step.do == "gate" else "$"
        rows += [["", "", "", f"  {sign} {command}", "", ""] for command in step.commands[:3]]
    show_table(["", "PHASE", "STATE", "STEP", "TOOK", ""], rows)


def _undo(sheet: Sheet) -> None:
    """What would undo it, of a restore that is not proved; what did, of one that was given up."""
    if sheet.undo and sheet.state != "proved":
        out.print(
            "\n[dim]if it is given up[/dim]" if not sheet.giving_up else "\n[dim]given up[/dim]"
        )
        _step_table(sheet.undo)


def _proof(proof: Proof) -> None:
    verdict = (
        "[bold green]PROVED[/bold green]" if proof.proved else "[bold red]NOT PROVED[/bold red]"
    )
    out.print(f"\n{verdict} {when(proof.at)}")
    show_table(
        ["LIST", "BACKUP", "FRESH", "AFTER", "MISSING", "ONLY ON TARGET"],
        [
            [
                item.name,
                item.backup,
                "-" if item.fresh is None else item.fresh,
                item.after,
                ", ".join(item.missing[:6]) or "-",
                ", ".join(item.extra[:6]) or "-",
            ]
            for item in proof.lists
        ],
    )
    if proof.left_out_lists:
        out.print(
            f"[yellow]not compared[/yellow]  {', '.join(proof.left_out_lists)}", soft_wrap=True
        )
    for check in proof.checks:
        word = "[green]passed[/green]" if check.passed else "[bold red]FAILED[/bold red]"
        out.print(f"{word}  {check.title}", end=" ")
        out.print(check.detail, markup=False)


def start(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        if not arguments.yes and shown.sheet.state == "draft":
            sheet = shown.sheet
            if not can_ask():
                raise PersonNeeded(
                    f"Nobody can be asked here whether {sheet.target.address} may be written to.",
                    "Read the sheet, then say so with --yes.",
                )
            _findings(sheet)
            say(
                f"This writes to {sheet.target.address} ({sheet.target_product}"
                f" {sheet.target_version}, machine {sheet.target_machine}). It cannot be undone:"
                f" {'; '.join(sheet.cannot_be_undone) or 'nothing'}."
            )
            if ask(f"Type the system's name, {sheet.system_name}, to begin:") != sheet.system_name:
                raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
        takeover = (
            arguments.takeover
            if arguments.takeover is not None
            else _asked_whether_it_takes_over(shown.sheet)
        )
        return _started(service, shown.id, service.start_restore(shown.id, takeover), arguments)


def _asked_whether_it_takes_over(sheet: Sheet) -> bool | None:
    """None: there is nothing to decide, or no terminal to ask on; the service then refuses with the
    options to give.
    """
    if not sheet.at_another_machine or sheet.takes_over is not None or not can_ask():
        return None
    say(
        f"This machine becomes {sheet.system_name}; {sheet.system_name}'s own machine is no longer"
        " watched."
    )
    match ask("Yes? Type yes; or no, and the system stays what it is:"):
        case "yes":
            return True
        case "no":
            return False
        case _:
            raise PersonNeeded("It was not said.", "Nothing was changed.")


def undo(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        if can_ask() and not arguments.yes:
            sheet = shown.sheet
            undone = "; ".join(step.title for step in sheet.to_undo())
            say(f"It is given up. On {sheet.target.address} this is done: {undone or 'nothing'}.")
            say(f"This stays: {'; '.join(sheet.staying()) or 'nothing'}.")
            if ask("Give it up? Type yes:") != "yes":
                raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
        return _started(service, shown.id, service.undo_restore(shown.id), arguments)


def _started(service: Client, sheet_id: str, run: RunShown, arguments: argparse.Namespace) -> int:
    if arguments.no_follow:
        print(json.dumps(run.model_dump(mode="json")) if arguments.json else run.id)
        say(f"Started. Follow it with: fennox run follow {run.id[:12]}")
        return 0
    return _go_on(service, sheet_id, run, arguments)


def _go_on(service: Client, sheet_id: str, run: RunShown, arguments: argparse.Namespace) -> int:
    """Follow, ask at gates where there is a terminal, and show the sheet at the end."""
    while True:
        run = runs.watch(service, run.id, arguments)
        shown = service.sheet(sheet_id)
        gate = shown.sheet.open_gate()
        if run.state != "waiting" or gate is None or not can_ask():
            break
        say(gate.question, style="bold")
        given = ask(f"Type {' or '.join(gate.choices)} (anything else leaves it open):")
        if given not in gate.choices:
            break
        run = service.answer(sheet_id, gate.number, given)
    _show(shown, arguments)
    return runs.ending(run)


def answer(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        gate = shown.sheet.open_gate()
        if gate is None:
            raise PersonNeeded("The sheet has no open gate.", "Nothing is to be answered.")
        given = arguments.answer
        if given is None:
            say(gate.question, style="bold")
            if not can_ask():
                raise PersonNeeded(
                    "An answer is needed.", f"Give one of: {', '.join(gate.choices)}."
                )
            given = ask(f"Type {' or '.join(gate.choices)}:")
        run = service.answer(shown.id, gate.number, given)
    say(f"Answered. Follow it with: fennox run follow {run.id[:12]}")
    return 0


def list_restores(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.restores()
    show_list(
        found,
        [
            ("SHEET", lambda item: item.id[:12]),
            ("SYSTEM", lambda item: item.system),
            ("BACKUP ID", lambda item: item.backup[:12]),
            ("STATE", lambda item: item.state),
            ("DRAFTED", lambda item: when(item.created)),
            ("BY", lambda item: item.by),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="There is no run sheet yet. Draft one with `fennox restore draft BACKUP`.",
    )
