"""Freeing space, and removals that wait for a person."""

from __future__ import annotations

import argparse

from fennox.cli.estate import runs
from fennox.cli.main import Environment
from fennox.cli.output import ask, can_ask, say, show_table, when
from fennox.cli.signed_in import client
from fennox.core.errors import PersonNeeded
from fennox.core.facts.run_results import PreviewResult, SweepResult
from fennox.core.words import counted, size
from fennox.wire.backups import MarkedShown
from fennox.wire.watch.runs import RunShown


def sweep(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        name = service.store(arguments.store).name
        marked = service.marked(name)
        waiting = [item for item in marked if item.person]
        if not arguments.yes or arguments.preview:
            seen = runs.watch(service, service.sweep(name, preview=True).id, arguments)
            if seen.state != "done":
                return runs.ending(seen)
            if arguments.json and arguments.preview:
                print(seen.model_dump_json(indent=2))
            else:
                _tell_marked(marked)
                say(_would(seen))
            if arguments.preview:
                return 0
            if not can_ask():
                raise PersonNeeded("Nobody confirmed it.", "Give --yes, or --preview to look only.")
            lets_go = (
                f" and let {counted(len(waiting), 'backup')} go that wait for a person"
                if arguments.confirm
                else ""
            )
            if ask(f"Type yes to sweep{lets_go}:") != "yes":
                raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
        sure = [item.backup for item in waiting] if arguments.confirm else []
        return runs.started(
            service,
            service.sweep(name, preview=False, confirmed=sure),
            arguments,
            {"sweep": _swept},
        )


def _tell_marked(marked: list[MarkedShown]) -> None:
    """Backups marked for removal and what they wait for. Printed to standard output: it is the
    requested result.
    """
    if marked:
        rows: list[list[object]] = [
            [
                item.backup[:12],
                item.system,
                when(item.time),
                item.name or "-",
                when(item.marked),
                item.waits,
            ]
            for item in marked
        ]
        show_table(
            ["ID", "SYSTEM", "TAKEN", "NAME", "MARKED", "WAITS FOR"], rows, spare=["NAME", "MARKED"]
        )


def _would(run: RunShown) -> str:
    result = run.told(PreviewResult)
    if result.doubts:
        return f"Nothing would be removed: {result.doubts} See `fennox doctor clocks`."
    return (
        f"A sweep of {run.store} removes {result.records} backups that nothing keeps and deletes "
        f"{result.deleted} packs whose grace is over: {size(result.freed)} are free at once. "
        f"It condemns {result.condemned} packs more: {size(result.later)} are free after 48 hours."
        f"{_locked(result)}{_waiting(run, result)}"
    )


def _swept(run: RunShown) -> str:
    result = run.told(SweepResult)
    anew = result.superseded
    superseded = (
        f" {anew} old records of backups that were sealed again were removed too." if anew else ""
    )
    return (
        f"{result.records} backups were removed, {result.deleted} packs deleted, "
        f"{size(result.freed)} freed; {size(result.later)} more after the grace."
        f"{superseded}{_locked(result)}{_waiting(run, result)}"
    )


def _waiting(run: RunShown, result: SweepResult | PreviewResult) -> str:
    count = result.waiting
    text = (
        f" {counted(count, 'backup')} more wait for a person: `fennox store sweep {run.store}"
        " --confirm`."
    )
    return text if count else ""


def _locked(result: SweepResult | PreviewResult) -> str:
    text = (
        f" {result.locked} objects are locked by the far side; the first may go on"
        f" {result.locked_until}."
    )
    return text if result.locked else ""
