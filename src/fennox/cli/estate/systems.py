"""Enrolling and looking at systems."""

from __future__ import annotations

import argparse

from fennox.cli.estate import system_details
from fennox.cli.host_keys import with_accepted_key
from fennox.cli.main import FAILED, PERSON, Environment
from fennox.cli.output import ask, can_ask, say, show_list, show_one, show_table, when
from fennox.cli.signed_in import client
from fennox.client.api import Client
from fennox.core.errors import BadInput, PersonNeeded
from fennox.wire.machines.enrolling import NewSystem, Retired, SystemChange
from fennox.wire.machines.relations import Relations
from fennox.wire.machines.systems import SystemShown


def settings_of(arguments: argparse.Namespace) -> dict[str, str]:
    """``--setting``, and ``--also`` and ``--without``, which are settings of the type ``paths``,
    one a line.
    """
    paths = {"also": arguments.also, "without": arguments.without}
    found = {name: "\n".join(listed) for name, listed in paths.items() if listed is not None}
    for pair in arguments.setting:
        name, separator, value = pair.partition("=")
        if not separator:
            raise BadInput(f"{pair!r} is not NAME=VALUE.", "Write for example --setting port=8443.")
        found[name] = value
    return found


def add(arguments: argparse.Namespace, environment: Environment) -> None:
    settings = settings_of(arguments)
    with client(environment) as service:

        def attempt(key: str | None) -> SystemShown:
            return service.add_system(
                NewSystem(
                    name=arguments.name,
                    kind=arguments.kind,
                    address=arguments.address,
                    login=arguments.login,
                    key=key,
                    settings=settings,
                    site=arguments.site or "",
                    labels=arguments.label or [],
                    needs=arguments.needs or [],
                    via=arguments.via,
                    patience=arguments.patience or 15,
                    spare=arguments.spare,
                )
            )

        system = with_accepted_key(attempt, arguments, arguments.address)
        reach = next(kind.reach for kind in service.kinds() if kind.name == system.kind)
    _show(service, system, arguments)
    if not arguments.json and not arguments.quiet:
        say(_next_step(system, reach))


def _next_step(system: SystemShown, reach: str) -> str:
    if system.spare:
        return f"Practise on it: fennox restore draft BACKUP --practise --onto {system.name}"
    if any(finding.code == "drop-no-login" for finding in system.missing):
        return f"Let it push: fennox drop login add {system.name}"
    match reach:
        case "push":
            return f"Let it push: fennox drop login add {system.name}"
        case "hand":
            return f"Hand in its first export: fennox backup hand-in {system.name}"
        case _:
            return f"Take its first backup now: fennox backup take {system.name}"


def _show(
    service: Client,
    system: SystemShown,
    arguments: argparse.Namespace,
    relations: Relations | None = None,
) -> None:
    lines = system_details.lines_of(system, service.now(), relations)
    show_one(system, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


def list_systems(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.systems(
            kind=arguments.kind,
            site=arguments.site,
            label=arguments.label,
            retired=arguments.retired,
            spare=arguments.spares,
            sort=arguments.sort.replace("-", "_"),
            down=arguments.down,
        )
    show_list(
        found,
        [
            ("SYSTEM", lambda system: system.name),
            ("KIND", lambda system: system.kind),
            ("ADDRESS", lambda system: system.address),
            ("SITE", lambda system: system.site or "-"),
            ("NEWEST GOOD", lambda system: when(system.newest_good)),
            ("BACKUPS", lambda system: system.backups),
            (
                "ROUTINES",
                lambda system: (
                    "retired"
                    if system.retired
                    else "spare"
                    if system.spare
                    else ", ".join(system.routines) or "-"
                ),
            ),
            ("LACKS", lambda system: len(system.missing) or "-"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="No system matches. Enrol one: fennox system add NAME KIND ADDRESS --login LOGIN",
        spare=["ADDRESS", "KIND", "SITE"],
    )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(
            service,
            service.system(arguments.system),
            arguments,
            service.relations(arguments.system),
        )


def order(arguments: argparse.Namespace, environment: Environment) -> None:
    """The order in which the estate comes back. Dependencies are declared, or named in captured
    documents.
    """
    with client(environment) as service:
        found = service.return_order()
    if arguments.json:
        print(found.model_dump_json(indent=2))
        return
    if arguments.quiet:
        print("\n".join(name for wave in found.waves for name in wave))
        return
    rows: list[list[object]] = [
        [number, ", ".join(wave)] for number, wave in enumerate(found.waves, 1)
    ]
    show_table(["WAVE", "SYSTEMS"], rows)
    for circle in found.circles:
        say(
            "These need each other, so that one of them must come back without the others:"
            f" {', '.join(circle)}."
        )
    if len(found.waves) < 2:
        say("No dependencies are known. Add one: fennox system set NAME --needs OTHER")


def probe(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        found = service.probe(arguments.system)
    machine = found.machine
    if machine is None:
        say(f"{found.problem} {found.remedy}")
        return FAILED
    known = {True: "the one that is known", False: "ANOTHER ONE", None: "not known before"}[
        found.same_machine
    ]
    show_one(
        machine,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        lines=[
            ("machine", f"{machine.id} ({known})"),
            ("name", machine.name or "-"),
            ("version", f"{machine.product} {machine.version} {machine.build}"),
            ("platform", machine.platform or "-"),
            ("key", found.fingerprint),
            *[
                (
                    "would take",
                    f"{part.name}: {part.title}{'' if part.default else ' (only if asked for)'}",
                )
                for part in found.parts
            ],
        ],
    )
    if found.same_machine is False:
        say(
            f"Reinstalled or replaced? Then: fennox system confirm {arguments.system} --machine"
            f" {machine.id}"
        )
        return PERSON
    return 0


def resume(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service, service.resume(arguments.system), arguments)


def retire(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(
            service,
            service.retire(
                arguments.system, Retired(because=arguments.because, let_go=arguments.let_go)
            ),
            arguments,
        )
    if not arguments.json and not arguments.quiet:
        say(
            "Its backups go by their ladders from now on."
            if arguments.let_go
            else "All its backups stay."
        )
        say(f"If it was a mistake: fennox system resume {arguments.system}")


def remove(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.system(arguments.system)
        say(_what_stays(found.name, found.backups, found.stores))
        if not arguments.yes:
            if not can_ask():
                raise PersonNeeded(
                    f"Nobody has confirmed that {found.name} is to be forgotten.", "Give --yes."
                )
            if ask(f"Type its name, {found.name}, to have it forgotten here:") != found.name:
                raise PersonNeeded("That is not its name.", "Nothing was changed.")
        done = service.remove_system(found.name, arguments.because)
    if arguments.json:
        say(done.model_dump_json(indent=2))
    elif not arguments.quiet:
        say(f"{done.name} is removed.")


def _what_stays(name: str, backups: int, stores: list[str]) -> str:
    gone = f"This deletes what Fennox knows of {name}, with its runs and run sheets."
    if not backups:
        return f"{gone} It has no backups."
    stay = "Its backup stays" if backups == 1 else f"Its {backups} backups stay"
    back = f" `fennox store adopt {stores[0]}` brings all of it back." if stores else ""
    return (
        f"{gone} {stay} in {' and '.join(stores) or 'no store'}, and nothing is removed"
        f" there.{back}"
    )


def change(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        settings = None
        if given := settings_of(arguments):
            settings = {**service.system(arguments.system).settings, **given}
        wanted = SystemChange(
            name=arguments.name,
            kind=arguments.kind,
            address=arguments.address,
            login=arguments.login,
            key=arguments.accept_key,
            settings=settings,
            site=arguments.site,
            labels=arguments.label,
            needs=arguments.needs,
            via=arguments.via,
            patience=arguments.patience,
            spare=arguments.spare,
        )
        _show(service, service.change_system(arguments.system, wanted), arguments)


def confirm(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        machine = arguments.machine
        if machine is None:
            found = service.probe(arguments.system).machine
            if found is None or not can_ask():
                raise PersonNeeded(
                    "The machine id is missing.",
                    "Give --machine ID; see `system probe`.",
                )
            say(
                f"The machine that answers is {found.name} {found.id}, {found.product}"
                f" {found.version}."
            )
            if ask(f"Is it {arguments.system}, reinstalled or replaced? Type yes:") != "yes":
                raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
            machine = found.id
        _show(service, service.confirm(arguments.system, machine), arguments)
