"""New machines for systems: drafted, made on a host, taken away."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator

from fennox.cli.estate import runs
from fennox.cli.main import PERSON, Environment
from fennox.cli.output import ask, can_ask, out, say, show_list, show_table, when
from fennox.cli.signed_in import client
from fennox.client.api import Client
from fennox.core.errors import BadInput, PersonNeeded
from fennox.core.facts.run_results import DeployResult
from fennox.core.names import printable
from fennox.wire.machines.deployments import DeploymentShown, NewDeployment
from fennox.wire.watch.runs import RunShown

_ORIGINS = {
    "given": "said by a person",
    "kind": "the system's kind",
    "backup": "the backup",
    "host": "the host's kind",
    "system": "the system's name",
    "nobody": "nobody yet",
}


def draft(arguments: argparse.Namespace, environment: Environment) -> int:
    wanted = NewDeployment(
        backup=arguments.backup, host=arguments.on, values=_values(arguments.value or [])
    )
    with client(environment) as service:
        run = runs.watch(service, service.draft_deployment(wanted).id, arguments)
        if run.state != "done":
            return runs.ending(run)
        shown = service.deployment(run.told(DeployResult).deployment)
    _show(shown, arguments)
    blocked = bool(shown.deployment.blockers())
    if not arguments.json and not arguments.quiet:
        if blocked:
            say("Nothing has been made. It cannot begin before what blocks it is mended.")
        else:
            say(f"Nothing has been made. Begin with: fennox deployment start {shown.id[:12]}")
    return PERSON if blocked else 0


def _values(given: list[str]) -> dict[str, str]:
    found: dict[str, str] = {}
    for pair in given:
        name, _, value = pair.partition("=")
        if not name or not value:
            raise BadInput(
                f"{printable(pair)} is not NAME=VALUE.", "Write for example --value memory=2048."
            )
        if found.setdefault(name, value) != value:
            raise BadInput(f"--value {printable(name)} is given twice.", "Say once what it is.")
    return found


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service.deployment(arguments.deployment), arguments)


def start(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.deployment(arguments.deployment)
        name = _named(shown, arguments, "make it")
        run = service.start_deployment(shown.id, name)
        return _followed(service, shown.id, run, arguments)


def undo(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.deployment(arguments.deployment)
        if can_ask() and arguments.yes is None:
            titles = "; ".join(step.title for step in shown.deployment.to_undo())
            say(f"On {shown.deployment.host_name} this is done: {titles or 'nothing'}.")
        name = _named(shown, arguments, "take it away")
        run = service.undo_deployment(shown.id, name)
        return _followed(service, shown.id, run, arguments)


def _named(shown: DeploymentShown, arguments: argparse.Namespace, act: str) -> str:
    """The machine's name, as the person says it; the service compares."""
    if arguments.yes is not None:
        return str(arguments.yes)
    name = shown.deployment.name
    if not can_ask():
        raise PersonNeeded(
            f"Nobody can be asked here for the name of {name}.",
            f"Read what would be done, then give --yes {name}.",
        )
    return ask(f"Type the machine's name, {name}, to {act}:")


def _followed(
    service: Client, deployment: str, run: RunShown, arguments: argparse.Namespace
) -> int:
    if arguments.no_follow:
        print(json.dumps(run.model_dump(mode="json")) if arguments.json else run.id)
        say(f"Started. Follow it with: fennox run follow {run.id[:12]}")
        return 0
    run = runs.watch(service, run.id, arguments)
    shown = service.deployment(deployment)
    _show(shown, arguments)
    if not arguments.json and not arguments.quiet:
        if shown.deployment.state == "made":
            say(
                "Restore onto it with: fennox restore draft"
                f" {shown.backup[:12]} --replace --deployed {shown.id[:12]}"
            )
        if "undo" in shown.acts:
            say(f"Take it away with: fennox deployment undo {shown.id[:12]}")
    return runs.ending(run)


def _show(shown: DeploymentShown, arguments: argparse.Namespace) -> None:
    if arguments.json:
        print(json.dumps(shown.model_dump(mode="json"), indent=2))
    elif arguments.quiet:
        print(shown.id)
    else:
        _print(shown)


def _print(shown: DeploymentShown) -> None:
    made = shown.deployment
    for label, value in _headed(shown):
        out.print(f"[dim]{label:17}[/dim] ", end="")
        out.print(value, markup=False, soft_wrap=True)
    for finding in made.findings:
        style = "bold red" if finding.severity == "blocker" else "yellow"
        out.print(f"[{style}]{finding.severity:18}[/{style}]", end="")
        out.print(f"{finding.text} {finding.remedy}", markup=False, soft_wrap=True)
    if made.values:
        out.print()
        rows: list[list[object]] = [
            [one.title, one.name, one.value, _ORIGINS[one.origin]] for one in made.values
        ]
        show_table(["MADE WITH", "NAME", "VALUE", "SAYS"], rows)
    out.print()
    undo = [one for one in made.undo if one.state != "waiting"]
    steps: list[list[object]] = [
        [str(step.number), step.state, step.title, step.detail or step.command]
        for step in [*made.steps, *undo]
    ]
    show_table(["STEP", "STATE", "ON THE HOST", ""], steps)


def _headed(shown: DeploymentShown) -> Iterator[tuple[str, str]]:
    made = shown.deployment
    yield "deployment", f"{shown.id[:12]} ({made.state}), by {shown.by}, {when(shown.created)}"
    yield "for", f"{made.system_name}, from its backup {shown.backup[:12]}"
    yield "on", f"{made.host_name} at {made.host_address}"
    if made.address:
        yield "answers at", made.address
        yield "key", f"{made.key}, as its host tells it"
    titles = "; ".join(step.title for step in made.undo)
    yield "way back", titles or "the kind of the host names none"


def list_(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.deployments()
    show_list(
        found,
        [
            ("DEPLOYMENT", lambda item: item.id[:12]),
            ("SYSTEM", lambda item: item.system),
            ("HOST", lambda item: item.host),
            ("MACHINE", lambda item: item.name),
            ("STATE", lambda item: item.state),
            ("ANSWERS AT", lambda item: item.address),
            ("DRAFTED", lambda item: when(item.created)),
            ("BY", lambda item: item.by),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="No machine was made yet. Draft one with `fennox deployment draft BACKUP --on HOST`.",
    )
