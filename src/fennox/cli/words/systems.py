"""Systems."""

from __future__ import annotations

import argparse

from fennox.cli.words.shared import Sub, accepting, noun_of, verb_of


def define(nouns: Sub) -> None:
    system = noun_of(nouns, "system", "machines and appliances whose configuration is protected")
    _system_add(system)
    _system_look(system)
    _system_import(system)
    _system_list(system)
    _system_show(system)
    _system_retire(system)
    _system_remove(system)
    _system_set(system)
    _system_confirm(system)


def _system_add(system: Sub) -> None:
    add = verb_of(system, "add", "estate.systems:add", "enrol a system")
    add.add_argument("name")
    add.add_argument("kind")
    add.add_argument("address", help="host:port")
    add.add_argument("--login", help="needed for every kind that is reached")
    accepting(add)
    add.add_argument(
        "--spare",
        action="store_true",
        help="it is there to practise restores on: no routine takes it, and it may be overwritten",
    )
    _consists_of(add)
    _led_through(add)
    _known_by(add)


def _system_look(system: Sub) -> None:
    seen = verb_of(
        system,
        "look",
        "estate.enrolment:look",
        "what answers at an address, and what a backup of it would hold",
    )
    seen.add_argument("address", help="host or host:port")
    seen.add_argument("--login", required=True)
    seen.add_argument("--kind", help="the kind it is; proposed otherwise")
    accepting(seen)
    _consists_of(seen)
    _led_through(seen)
    seen.add_argument("--site", default="", help="its site, if a worker there reaches it")


def _system_import(system: Sub) -> None:
    many = verb_of(
        system, "import", "estate.enrolment:add_many", "enrol many systems from a CSV file"
    )
    many.add_argument(
        "file",
        help="CSV in UTF-8; its first line names the columns: name, address, login, and if you "
        "like kind, key, via, site, labels, setting:NAME",
    )
    many.add_argument(
        "--dry-run", action="store_true", help="check all of them, and change nothing"
    )
    many.add_argument(
        "--accept-list", metavar="FILE", help="keys to accept: lines of 'host:port FINGERPRINT'"
    )


def _system_list(system: Sub) -> None:
    listed = verb_of(system, "list", "estate.systems:list_systems", "the estate")
    for option in ("--kind", "--site", "--label"):
        listed.add_argument(option)
    which = listed.add_mutually_exclusive_group()
    which.add_argument("--retired", action="store_true", default=None, help="only retired ones")
    which.add_argument(
        "--in-use", dest="retired", action="store_false", help="only those that are not retired"
    )
    listed.add_argument(
        "--spares",
        action=argparse.BooleanOptionalAction,
        default=None,
        help="only spares, or none of them",
    )
    listed.add_argument(
        "--sort",
        choices=["name", "kind", "site", "newest-good"],
        default="name",
        help="newest-good: longest without a good backup first",
    )
    listed.add_argument("--down", action="store_true", help="the other way round")
    verb_of(
        system,
        "order",
        "estate.systems:order",
        "the order in which they must be restored if everything is lost",
    )


def _system_show(system: Sub) -> None:
    for name, handler, text in (
        ("show", "estate.systems:show", "one system"),
        (
            "hazards",
            "estate.system_details:hazards",
            "what a restore of it meets, and whether that was ever met",
        ),
        (
            "probe",
            "estate.systems:probe",
            "read a system's identity, storing nothing",
        ),
        (
            "resume",
            "estate.systems:resume",
            "let routines take a suspended or retired system again",
        ),
    ):
        verb_of(system, name, handler, text).add_argument("system")


def _system_retire(system: Sub) -> None:
    retire = verb_of(
        system,
        "retire",
        "estate.systems:retire",
        "retire a system that no longer exists; its backups stay",
    )
    retire.add_argument("system")
    retire.add_argument(
        "--because", required=True, metavar="TEXT", help="why, for those who look later"
    )
    retire.add_argument(
        "--let-go", action="store_true", help="its backups may go by their ladders from now on"
    )


def _system_remove(system: Sub) -> None:
    remove = verb_of(
        system,
        "remove",
        "estate.systems:remove",
        "forget a system here; its backups stay in the stores",
    )
    remove.add_argument("system")
    remove.add_argument(
        "--because", required=True, metavar="TEXT", help="why, for those who look later"
    )
    remove.add_argument("--yes", action="store_true", help="do not ask for its name")


def _system_set(system: Sub) -> None:
    change = verb_of(system, "set", "estate.systems:change", "change a system")
    change.add_argument(
        "--spare",
        action=argparse.BooleanOptionalAction,
        default=None,
        help="whether it is there to practise restores on, and may be overwritten",
    )
    change.add_argument("system")
    change.add_argument("--name", help="its new name; routines that name it follow")
    change.add_argument("--kind", help="its new kind")
    change.add_argument("--address")
    change.add_argument("--login")
    change.add_argument("--accept-key", metavar="FINGERPRINT")
    _consists_of(change)
    _led_through(change, "; '' for none")
    _known_by(change, ", and takes the place of those given before")


def _consists_of(verb: argparse.ArgumentParser) -> None:
    verb.add_argument(
        "--setting",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="a setting of its kind; of a secret, the name of the login that has it as password",
    )
    for option, text in (
        ("--also", "a further path that belongs to its configuration, like /opt/app/conf"),
        ("--without", "a path that is left out, like /etc/ssl/private"),
    ):
        verb.add_argument(
            option,
            action="append",
            metavar="PATH",
            help=f"{text}; may be given several times, and takes the place of those given before",
        )


def _led_through(verb: argparse.ArgumentParser, none: str = "") -> None:
    verb.add_argument(
        "--via",
        metavar="SYSTEM",
        help=f"the system that the way to it leads through, by SSH{none}",
    )


def _known_by(verb: argparse.ArgumentParser, again: str = "") -> None:
    verb.add_argument(
        "--patience", type=int, metavar="SECONDS", help="allowed for a connection to it (15)"
    )
    verb.add_argument(
        "--needs",
        action="append",
        metavar="SYSTEM",
        help=f"a system that must be back before this one; may be given several times{again}",
    )
    verb.add_argument("--site")
    verb.add_argument("--label", action="append", help="may be given several times")


def _system_confirm(system: Sub) -> None:
    confirm = verb_of(
        system,
        "confirm",
        "estate.systems:confirm",
        "confirm that the present machine is this system",
    )
    confirm.add_argument("system")
    confirm.add_argument("--machine", help="its machine id; shown and asked otherwise")
