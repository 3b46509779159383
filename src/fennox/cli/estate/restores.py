"""The restore: drafting the run sheet, reading it, starting it, answering its gates."""

from __future__ import annotations

import argparse
import json
from typing import get_args

from fennox.cli.estate import runs
from fennox.cli.estate.run_sheets import print_findings, print_sheet
from fennox.cli.host_keys import with_both_keys
from fennox.cli.main import PERSON, Environment
from fennox.cli.output import ask, can_ask, say, show_list, when
from fennox.cli.signed_in import client
from fennox.cli.words.restores import PURPOSES
from fennox.client.api import Client
from fennox.core.errors import BadInput, PersonNeeded
from fennox.core.facts.run_results import DraftResult
from fennox.core.names import printable
from fennox.core.places.sheet_model import DraftPurpose
from fennox.wire.restores import EntranceWanted, NewDraft, RestoreShown, SheetShown
from fennox.wire.watch.runs import RunShown


def _purpose(arguments: argparse.Namespace) -> DraftPurpose:
    """From the options, or asked; never guessed."""
    given: DraftPurpose | None = "seed" if arguments.new_name else arguments.purpose
    if given is not None:
        return given
    if not can_ask():
        raise PersonNeeded(
            "The restore's purpose is missing.",
            "Give --repair, --replace, --practise or --seed NAME.",
        )
    for purpose in get_args(DraftPurpose):
        say(f"{purpose:9} {PURPOSES[purpose]}")
    said = ask("What is this restore for? Type one of them:")
    for known in get_args(DraftPurpose):
        if said == known:
            purpose_said: DraftPurpose = known
            return purpose_said
    raise PersonNeeded("No purpose was given.", "Nothing was changed.")


def places_given(given: list[str]) -> dict[str, str]:
    """Keys may hold ``=`` themselves: the value follows the first one behind the name."""
    found: dict[str, str] = {}
    for pair in given:
        keyed = "[" in pair.partition("=")[0]
        key, _, value = pair.partition("]=" if keyed else "=")
        if not value:
            raise BadInput(
                f"{printable(pair)} is not NAME=CHOICE.",
                "Write for example --place network=backup, or --place 'file-systems[/data]=VALUE'.",
            )
        name = f"{key}]" if keyed else key
        if found.setdefault(name, value) != value:
            raise BadInput(
                f"--place {printable(name)} is given twice.", "Say once what is to be written."
            )
    return found


def draft(arguments: argparse.Namespace, environment: Environment) -> int:
    purpose = _purpose(arguments)
    new_name = arguments.new_name
    if purpose == "seed" and new_name is None:
        new_name = ask("What is the new system called?")
    places = places_given(arguments.place or [])
    only = _only(arguments.only or [])
    with client(environment) as service:
        if arguments.deployed is not None:
            _aim_at_deployed(service, arguments)

        def attempt(key: str | None, entrance_key: str | None) -> RunShown:
            entrance = EntranceWanted(
                at=arguments.entrance, login=arguments.entrance_login, key=entrance_key
            )
            return service.draft(
                NewDraft(
                    backup=arguments.backup,
                    purpose=purpose,
                    new_name=new_name,
                    onto=arguments.onto,
                    at=arguments.at,
                    login=arguments.login,
                    key=key,
                    parts=arguments.part,
                    place=places,
                    only=only,
                    peers=arguments.peers,
                    claim=arguments.claim or "",
                    beside=arguments.beside_login,
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
        if shown.sheet.blockers():
            say("Nothing has been changed. It cannot begin before what blocks it is mended.")
        else:
            say(f"Nothing has been changed. Begin with: fennox restore start {shown.id[:12]}")
    return PERSON if shown.sheet.blockers() else 0


def _only(given: list[str]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for pair in given:
        listed, _, name = pair.partition("=")
        if not listed or not name:
            raise BadInput(
                f"{printable(pair)} is not LIST=NAME.", "Write for example --only switches=fleet."
            )
        found.setdefault(listed, []).append(name)
    return found


def _aim_at_deployed(service: Client, arguments: argparse.Namespace) -> None:
    """Take address and key from the deployment, where no other ones are given."""
    made = service.deployment(arguments.deployed).deployment
    if arguments.at is not None:
        raise BadInput("--at and --deployed both say where the target is.", "Give one of them.")
    if made.state != "made":
        raise BadInput(
            f"The deployment {arguments.deployed} is {made.state}, so there is no machine yet.",
            f"fennox deployment show {arguments.deployed}",
        )
    arguments.at = made.address
    arguments.accept_key = arguments.accept_key or made.key


def redraft(arguments: argparse.Namespace, environment: Environment) -> int:
    places = places_given(arguments.place or [])
    with client(environment) as service:
        sheet = service.sheet(arguments.sheet).id
        run = runs.watch(service, service.redraft_restore(sheet, places).id, arguments)
        if run.state != "done":
            return runs.ending(run)
        shown = service.sheet(sheet)
    _show(shown, arguments)
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


def start(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        sheet = shown.sheet
        if sheet.state == "draft":
            if can_ask() and arguments.yes is None:
                print_findings(sheet)
                say(
                    f"This writes to {sheet.target.address} ({sheet.target_product}"
                    f" {sheet.target_version}, machine {sheet.target_machine}). It cannot be"
                    f" undone: {'; '.join(sheet.cannot_be_undone) or 'nothing'}."
                )
                say(f"{sheet.purpose}: {shown.estate_afterwards}")
            _must_be_named(sheet.system_name, arguments.yes, "begin")
        run = service.start_restore(shown.id, return_on_failure=arguments.return_on_failure)
        return _started(service, shown.id, run, arguments)


def return_(arguments: argparse.Namespace, environment: Environment) -> int:
    """Draft the way back, show it, and begin it once the system is named."""
    with client(environment) as service:
        restore = service.sheet(arguments.sheet).sheet
        if arguments.yes is not None:
            _must_be_named(restore.spare or restore.system_name, arguments.yes, "put it back")
        run = runs.watch(service, service.return_restore(arguments.sheet).id, arguments)
        if run.state != "done":
            return runs.ending(run)
        shown = service.sheet(run.told(DraftResult).sheet)
        if not arguments.json and not arguments.quiet:
            print_sheet(shown)
        if shown.sheet.blockers():
            return PERSON
        if arguments.yes is None and not can_ask():
            say(f"Nothing has been changed. Begin with: fennox restore start {shown.id[:12]}")
            return PERSON
        _must_be_named(shown.sheet.system_name, arguments.yes, "put it back")
        return _started(service, shown.id, service.start_restore(shown.id), arguments)


def _must_be_named(name: str, given: str | None, act: str) -> None:
    """A person types the system's name, or gave it with the command."""
    if given is None:
        if not can_ask():
            raise PersonNeeded(
                f"Nobody can be asked here for the name of {name}.",
                f"Read the sheet, then {act} with --yes {name}.",
            )
        given = ask(f"Type the system's name, {name}, to {act}:")
    if given != name:
        raise PersonNeeded(
            f"{given!r} is not {name}, the system of this sheet.", "Nothing was changed."
        )


def prove(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        return _started(service, shown.id, service.prove_restore(shown.id), arguments)


def accept(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        if shown.sheet.awaits_acceptance():
            if can_ask() and arguments.yes is None:
                say(f"{shown.sheet.purpose}: {shown.estate_afterwards}")
            name = shown.sheet.new_name or shown.sheet.system_name
            _must_be_named(name, arguments.yes, "accept")
        shown = service.accept_restore(shown.id)
    if arguments.json:
        print(json.dumps(shown.model_dump(mode="json"), indent=2))
    elif not arguments.quiet:
        name, place = shown.sheet.new_name or shown.sheet.system_name, shown.sheet.after.place
        say(f"Accepted: {name} is the machine {shown.sheet.target_machine} at {place.address}.")
    return 0


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
    if not arguments.json and not arguments.quiet:
        if shown.sheet.awaits_acceptance():
            say(f"Accept it with: fennox restore accept {shown.id[:12]}")
        if "return" in shown.acts:
            say(f"The way back: fennox restore return {shown.id[:12]}")
    return runs.ending(run)


def answer(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        gate = shown.sheet.open_gate()
        if gate is None:
            raise PersonNeeded("The sheet has no open gate.", "There is nothing to answer.")
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


def release(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        shown = service.sheet(arguments.sheet)
        if not shown.in_force:
            raise PersonNeeded("This restore left nothing in force.", "Nothing is to be released.")
        number = arguments.step
        if number is None:
            for step in shown.in_force:
                if step.meanwhile is not None:
                    say(f"{step.number}: {step.meanwhile.says} ({step.title})")
            if not can_ask():
                raise PersonNeeded("The step's number is needed.", "Give it behind the sheet.")
            given = ask("Type the number of the step whose state is over:")
            if not given.isdecimal():
                raise PersonNeeded(f"{given!r} is no number of a step.", "Nothing was changed.")
            number = int(given)
        _must_be_named(shown.sheet.system_name, arguments.yes, "release it")
        service.release_step(shown.id, number)
    say(f"Released: step {number} is noted as over, by you. Nothing was done on the target.")
    return 0


def _listed_state(item: RestoreShown) -> str:
    return f"{item.state}, not accepted" if item.awaits_acceptance else item.state


def list_restores(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.restores()
    show_list(
        found,
        [
            ("SHEET", lambda item: item.id[:12]),
            ("SYSTEM", lambda item: item.system),
            ("BACKUP ID", lambda item: item.backup[:12]),
            ("PURPOSE", lambda item: item.purpose),
            ("TARGET", lambda item: item.target),
            ("STATE", _listed_state),
            ("DRAFTED", lambda item: when(item.created)),
            ("BY", lambda item: item.by),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="There are no run sheets yet. Draft one with `fennox restore draft BACKUP`.",
    )
