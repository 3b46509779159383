"""A run sheet on a terminal: the steps, the target, and the findings."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import assert_never

from fennox.cli.estate.comparison import document_lines
from fennox.cli.output import out, show_table, when
from fennox.cli.words.restores import PURPOSES
from fennox.core.names import printable
from fennox.core.places.placed import Placed
from fennox.core.restoring.proof import ListProof, Proof
from fennox.core.restoring.sheet import Sheet, SheetStep
from fennox.core.words import first_few, size
from fennox.wire.restores import SheetShown

_STYLE = {"blocker": "bold red", "warning": "yellow", "note": "dim"}


def print_sheet(shown: SheetShown) -> None:
    """As text: the steps, the target, and the findings."""
    sheet = shown.sheet
    for label, value in _headed(shown):
        out.print(f"[dim]{label:17}[/dim] ", end="")
        out.print(value, markup=False, soft_wrap=True)
    _in_force(shown)
    print_findings(sheet)
    _places(sheet.placed)
    _peers(sheet)
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
    yield "run sheet", f"{shown.id[:12]} ({_state(sheet)}), {made}"
    yield "purpose", f"{sheet.purpose}: {PURPOSES[sheet.purpose]}"
    yield "the estate", shown.estate_afterwards
    yield "backup", f"{sheet.backup[:12]} of {sheet.system_name}{_taken(sheet)}"
    spare = f"the spare {sheet.spare}, " if sheet.spare else ""
    target = f"{spare}{sheet.target.address} as {sheet.target.account}"
    yield "target", f"{target}, machine {sheet.target_machine}"
    if sheet.entrance:
        yield "acting at", f"{sheet.entrance.address} as {sheet.entrance.account}"
    yield "version", f"{sheet.target_product} {sheet.target_version}"
    yield "parts", ", ".join(sheet.parts)
    for name, chosen in sheet.placed.only.items():
        yield f"only {name}", ", ".join(chosen)
    settings = (f"{name}={value}" for name, value in sheet.settings.items())
    yield "settings", "; ".join(settings) or "none"
    for name, login in sheet.seen_secrets.items():
        yield f"secret {name}", login or "the system has none"
    yield "afterwards at", f"{place.address}: {sheet.after.address_because}"
    yield "signing in as", f"{place.account}: {sheet.after.account_because}"
    yield "known by", f"{place.key}: {sheet.after.key_because}"
    yield "takes", _expected(shown)
    yield "restarts", "; ".join(sheet.restarts) or "nothing"
    meanwhile = _meanwhile(sheet)
    if meanwhile:
        yield "meanwhile", meanwhile
    unstoppable = [step.title for step in sheet.steps if not step.stoppable]
    if unstoppable:
        yield "cannot be stopped", "; ".join(unstoppable)
    yield "cannot be undone", "; ".join(sheet.cannot_be_undone) or "nothing"
    yield "way back", _way_back(sheet)


_MEANWHILE = {"mode": "special state", "hold": "must not start", "access": "open access"}


def _meanwhile(sheet: Sheet) -> str:
    """What will be so between two steps, for the reader of a sheet that has not begun."""
    ends = {step.ends: step.number for step in sheet.steps if step.ends is not None}
    return " ".join(
        f"{step.meanwhile.says} (Steps {step.number} to {ends[step.number]}.)"
        for step in sheet.steps
        if step.meanwhile is not None and step.number in ends
    )


def _in_force(shown: SheetShown) -> None:
    """What the restore left on the target and has not ended: first of all, in red."""
    for step in shown.in_force:
        if step.meanwhile is not None:
            known = "" if step.state == "done" else f" (or may be: this step is {step.state})"
            out.print(f"[bold red]{_MEANWHILE[step.meanwhile.state]:18}[/]", end="")
            text = f"{step.meanwhile.says}{known} Begun by step {step.number}: {step.title}"
            out.print(text, markup=False, soft_wrap=True)


def _way_back(sheet: Sheet) -> str:
    if sheet.purpose == "return":
        return "this is the way back"
    if not any(step.do == "safety" for step in sheet.steps):
        return "none: what the target holds is not saved"
    until = [step.title for step in sheet.steps if step.no_return]
    ends = f"none after: {'; '.join(until)}" if until else "until the proof is accepted"
    chosen = "; by itself if it fails" if sheet.return_on_failure else ""
    return f"the safety copy, {ends}{chosen}"


def _expected(shown: SheetShown) -> str:
    if shown.expected_seconds is None:
        return "unknown: some steps are in none of the last proved restores"
    return f"usually {shown.expected_seconds:.0f} s, and what people need at gates"


def _state(sheet: Sheet) -> str:
    if sheet.accepted is not None:
        return f"{sheet.state}, accepted by {sheet.accepted_by} {when(sheet.accepted)}"
    return f"{sheet.state}, not accepted yet" if sheet.awaits_acceptance() else sheet.state


def _taken(sheet: Sheet) -> str:
    return f", taken {when(sheet.backup_taken)}" if sheet.backup_taken is not None else ""


def print_findings(sheet: Sheet) -> None:
    out.print()
    for severity in ("blocker", "warning", "note"):
        for finding in sheet.findings:
            if finding.severity == severity:
                out.print(f"[{_STYLE[severity]}]{severity:8}[/]", end=" ")
                out.print(finding.text, finding.remedy, markup=False, soft_wrap=True)
    over = sheet.overwrites
    for title, names, hidden in (
        ("overwritten", over.changed, over.changed_count - len(over.changed)),
        ("added", by_folder(over.added), over.added_count - len(over.added)),
    ):
        if names:
            listed = first_few([*map(printable, names)], len(names), in_all=len(names) + hidden)
            out.print(f"[dim]{title:12}[/dim]", end=" ")
            out.print(listed, markup=False, soft_wrap=True)


def by_folder(paths: list[str], most: int = 12) -> list[str]:
    """Many paths of one folder as that folder and their number, where there are more than
    ``most`` in all: nothing of these is lost, and nobody reads two hundred.
    """
    if len(paths) <= most:
        return paths
    folders = Counter(path.rpartition("/")[0] for path in paths)
    within: list[str] = []
    for path in paths:
        folder = path.rpartition("/")[0]
        shown = path if folders[folder] < 6 else f"{folder}/* ({folders[folder]})"
        if shown not in within:
            within.append(shown)
    return within


def _places(placed: Placed) -> None:
    """Values of the place in three columns, and what is rewritten for them."""
    if not placed.values:
        return
    out.print("\n[dim]values of the place[/dim]")
    rows: list[list[object]] = []
    for value in placed.values:
        for entry in value.entries:
            which = (
                value.name if entry.key in ("", entry.document) else f"{value.name}[{entry.key}]"
            )
            chosen = f"{value.choice}, chosen" if value.chosen else value.choice
            rows.append(
                [
                    printable(which),
                    printable(entry.document),
                    _value(entry.backup),
                    _value(entry.target),
                    _value(entry.after),
                    chosen,
                ]
            )
    show_table(["VALUE", "DOCUMENT", "IN THE BACKUP", "ON THE TARGET", "AFTERWARDS", "WHOSE"], rows)
    kept = [printable(one.path) for one in placed.kept]
    if kept:
        out.print("[dim]kept as on the target[/dim]", end=" ")
        out.print(first_few(kept, 8), markup=False, soft_wrap=True)
    for rewritten in placed.rewritten:
        out.print("[dim]rewritten[/dim]")
        for line in document_lines(rewritten.change):
            out.print(line, markup=False, soft_wrap=True)


def _peers(sheet: Sheet) -> None:
    """How far each copy of a replicated set is, and whose will win."""
    plan = sheet.replica
    if plan is None:
        return
    match plan.stance:
        case "win":
            what = f"wins in {printable(plan.claim)}" if plan.claim else "wins"
        case "yield":
            what = "yields to its peers"
        case "apart":
            what = "never meets its peers"
        case None:
            what = "wins or yields: nobody has decided"
        case _:
            assert_never(plan.stance)
    out.print(f"\n[dim]the restored copy {what}[/dim]", highlight=False)
    hosts = sorted({host for one in plan.numbers for host in one.peers})
    rows: list[list[object]] = [
        [
            printable(one.name),
            one.backup or "none",
            *(one.peers.get(host, "none") for host in hosts),
            one.winner,
        ]
        for one in plan.numbers
    ]
    titles = [f"ON {printable(host)}" for host in hosts]
    show_table(["SUBTREE", "IN THE BACKUP", *titles, "WILL WIN"], rows)


def _value(value: str | None) -> str:
    return "none" if value is None else printable(value)


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
                size(step.size) if step.size else "",
                f"{step.usually:.1f} s" if step.usually is not None else "",
                took,
                step.detail,
            ]
        )
    show_table(["", "PHASE", "STATE", "STEP", "SENDS", "USUALLY", "TOOK", ""], rows)
    _commands([step for step in steps if step.commands])


def _commands(steps: list[SheetStep]) -> None:
    """What is run and asked, below the table: a script has lines of its own, and may be long."""
    if steps:
        out.print("\n[dim]what is run ($) and asked (?)[/dim]")
    for step in steps:
        sign = "?" if step.do == "gate" else "$"
        for number, command in enumerate(step.commands[:3]):
            first, *more = command.split("\n")
            start = str(step.number) if number == 0 else ""
            out.print(f"{start:3} {sign} {printable(first)}", markup=False, soft_wrap=True)
            for line in more:
                out.print(f"      {printable(line)}", markup=False, soft_wrap=True)
        if len(step.commands) > 3:
            out.print(f"      … and {len(step.commands) - 3} more of the same step", markup=False)


def _undo(sheet: Sheet) -> None:
    """Steps that would undo an unproved restore, or that undid one that was given up."""
    if sheet.undo and sheet.state != "proved":
        out.print(
            "\n[dim]if it is given up[/dim]" if not sheet.giving_up else "\n[dim]given up[/dim]"
        )
        _step_table(sheet.undo)


def _lists(lists: list[ListProof]) -> None:
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
            for item in lists
        ],
    )


def _proof(proof: Proof) -> None:
    verdict = (
        "[bold green]PROVED[/bold green]" if proof.proved else "[bold red]NOT PROVED[/bold red]"
    )
    out.print(f"\n{verdict} {when(proof.at)}")
    _lists(proof.lists)
    if proof.machine:
        out.print("[dim]of the machine itself: no restore brings it, and no proof needs it[/dim]")
        _lists(proof.machine)
    if proof.left_out_lists:
        out.print(
            f"[yellow]not compared[/yellow]  {', '.join(proof.left_out_lists)}", soft_wrap=True
        )
    for check in proof.checks:
        word = "[green]passed[/green]" if check.passed else "[bold red]FAILED[/bold red]"
        out.print(f"{word}  {check.title}", end=" ")
        out.print(check.detail, markup=False)
