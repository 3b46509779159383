"""Enrolling and looking at systems."""

from __future__ import annotations

import argparse

from fennox.cli.access import client
from fennox.cli.hostkeys import with_accepted_key
from fennox.cli.main import FAILED, PERSON, Environment
from fennox.cli.output import age, ask, can_ask, say, show_list, show_one, when
from fennox.core.errors import BadInput, PersonNeeded
from fennox.wire.systems import NewSystem, SystemChange, SystemShown


def _settings(pairs: list[str]) -> dict[str, str]:
    found = {}
    for pair in pairs:
        name, separator, value = pair.partition("=")
        if not separator:
            raise BadInput(f"{pair!r} is not NAME=VALUE.", "Write for example --setting also=/opt/app/conf.")
        found[name] = value
    return found


def add(arguments: argparse.Namespace, environment: Environment) -> None:
    settings = _settings(arguments.setting)
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
                )
            )

        system = with_accepted_key(attempt, arguments, arguments.address)
    _show(system, arguments)
    if not arguments.json and not arguments.quiet:
        say(f"Take its first backup now: fennox backup take {system.name}")


def _show(system: SystemShown, arguments: argparse.Namespace) -> None:
    machine = system.machine
    lines: list[tuple[str, object]] = [
        ("system", system.name),
        ("kind", system.kind),
        ("address", system.address),
        ("login", system.login),
        ("key", system.key),
        ("machine", f"{machine.name} {machine.id}" if machine else "-"),
        ("version", f"{machine.product} {machine.version}" if machine else "-"),
        ("site", system.site or "-"),
        ("labels", ", ".join(system.labels) or "-"),
        ("newest good", f"{when(system.newest_good)} ({age(system.newest_good)})" if system.newest_good else "never"),
        ("backups", f"{system.backups}, newest in {', '.join(system.stores) or 'no store'}"),
        ("routines", ", ".join(system.routines) or "none"),
        ("next run", when(system.next_run)),
    ]
    lines += [(f"setting {name}", value) for name, value in system.settings.items()]
    lines += [("missing", f"{finding.text} {finding.remedy}") for finding in system.missing]
    show_one(system, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


def list_systems(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.systems(kind=arguments.kind, site=arguments.site, label=arguments.label)
    show_list(
        found,
        [
            ("SYSTEM", lambda system: system.name),
            ("KIND", lambda system: system.kind),
            ("ADDRESS", lambda system: system.address),
            ("SITE", lambda system: system.site or "-"),
            ("NEWEST GOOD", lambda system: when(system.newest_good)),
            ("BACKUPS", lambda system: system.backups),
            ("ROUTINES", lambda system: ", ".join(system.routines) or "-"),
            ("LACKS", lambda system: len(system.missing) or "-"),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="No system fits. Enrol one with `fennox system add NAME KIND ADDRESS --login LOGIN`.",
    )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        _show(service.system(arguments.system), arguments)


def probe(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        found = service.probe(arguments.system)
    machine = found.machine
    if machine is None:
        say(f"{found.problem} {found.remedy}")
        return FAILED
    known = {True: "the one that is known", False: "ANOTHER ONE", None: "not known before"}[found.same_machine]
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
                ("would take", f"{part.name}: {part.title}{'' if part.default else ' (only if asked for)'}")
                for part in found.parts
            ],
        ],
    )
    if found.same_machine is False:
        say(f"Reinstalled or replaced? Then: fennox system confirm {arguments.system} --machine {machine.id}")
        return PERSON
    return 0


def change(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        settings = None
        if arguments.setting:
            settings = {**service.system(arguments.system).settings, **_settings(arguments.setting)}
        wanted = SystemChange(
            address=arguments.address,
            login=arguments.login,
            key=arguments.accept_key,
            settings=settings,
            site=arguments.site,
            labels=arguments.label,
        )
        _show(service.change_system(arguments.system, wanted), arguments)


def confirm(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        machine = arguments.machine
        if machine is None:
            found = service.probe(arguments.system).machine
            if found is None or not can_ask():
                raise PersonNeeded("It must be said which machine this is.", "Give --machine ID; see `system probe`.")
            say(f"The machine that answers is {found.name} {found.id}, {found.product} {found.version}.")
            if ask(f"Is it {arguments.system}, reinstalled or replaced? Type yes:") != "yes":
                raise PersonNeeded("It was not confirmed.", "Nothing was changed.")
            machine = found.id
        _show(service.confirm(arguments.system, machine), arguments)
