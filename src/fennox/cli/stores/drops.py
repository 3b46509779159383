"""The receiving end: where it listens, who may push, what has arrived."""

from __future__ import annotations

import argparse

from fennox.cli.main import Environment
from fennox.cli.output import ask, can_ask, say, show_list, show_one, show_table, when
from fennox.cli.signed_in import client
from fennox.cli.stores.logins import text_of
from fennox.core.errors import BadInput, PersonNeeded
from fennox.core.words import counted, size
from fennox.wire.drops import (
    DropLoginMade,
    DropOfSystem,
    DropShown,
    DropWanted,
    NewDropLogin,
)


def list_drops(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        show_list(
            service.drops(),
            [
                ("SYSTEM", lambda item: item.system),
                ("ACCOUNT", lambda item: item.account or "none"),
                ("FILES", lambda item: len(item.files)),
                ("SIZE", lambda item: size(sum(file.size for file in item.files))),
                ("WAITS FOR", lambda item: item.waits or "nothing"),
            ],
            as_json=arguments.json,
            quiet=arguments.quiet,
            key="system",
            none="No system may push. Make a login for one: fennox drop login add SYSTEM",
        )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        if arguments.system:
            _show_system(service.drop_of(arguments.system), arguments)
        else:
            _show_drop(service.drop(), arguments)


def set_drop(arguments: argparse.Namespace, environment: Environment) -> None:
    given = {name: getattr(arguments, name) for name in ("sftp", "ftps", "ftp")}
    wanted = DropWanted(
        **{name: "" if value == "off" else value for name, value in given.items()},
        public=arguments.public,
        passive=arguments.passive,
        rate=arguments.rate,
    )
    if not any(value is not None for value in wanted.model_dump().values()):
        raise BadInput("Nothing is to be changed.", "Say what: --sftp HOST:PORT, for example.")
    with client(environment) as service:
        _show_drop(service.change_drop(wanted), arguments)
    if wanted.ftp:
        say("Secrets and files of plain FTP can be read by everybody on the way.", "yellow")


def add_login(arguments: argparse.Namespace, environment: Environment) -> None:
    key = text_of(arguments.key).strip() if arguments.key else None
    with client(environment) as service:
        made = service.add_drop_login(arguments.system, NewDropLogin(key=key))
    show_one(
        made, as_json=arguments.json, quiet=arguments.quiet, key="account", lines=_to_paste(made)
    )
    if not arguments.json and not arguments.quiet:
        say("The secret is shown this once. A new one is made by the same command.")


def _to_paste(made: DropLoginMade) -> list[tuple[str, object]]:
    lines: list[tuple[str, object]] = [
        (protocol, address)
        for protocol, address in (
            ("SFTP", made.sftp),
            ("FTP with TLS", made.ftps),
            ("FTP in clear", made.ftp),
        )
        if address
    ]
    lines += [("account", made.account), ("secret", made.secret), ("folder", made.folder)]
    if made.sftp:
        lines.append(("host key", made.host_key))
    if made.ftps:
        lines.append(("certificate", f"SHA-256 {made.certificate}"))
    return lines


def revoke_login(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        service.revoke_drop_login(arguments.system)
    say(f"Nothing more is accepted from {arguments.system}.")


def discard(arguments: argparse.Namespace, environment: Environment) -> None:
    if not arguments.yes:
        if not can_ask():
            raise PersonNeeded(
                f"{arguments.file} of {arguments.system} would be lost: no backup holds it.",
                "Add --yes if that is meant.",
            )
        ask(f"{arguments.file} is in no backup. Enter drops it, Ctrl C keeps it: ")
    with client(environment) as service:
        service.discard_arrival(arguments.system, arguments.file)
    say(f"{arguments.file} is gone.")


def _show_drop(drop: DropShown, arguments: argparse.Namespace) -> None:
    problems = {one.protocol: one.problem for one in drop.listening}

    def served(protocol: str, address: str) -> str:
        if not address:
            return "off"
        if protocol not in problems:
            return f"{address} (beginning)"
        return f"{address} ({problems[protocol]})" if problems[protocol] else address

    free = size(drop.free) if drop.free is not None else "not known"
    show_one(
        drop,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="host_key",
        lines=[
            ("SFTP", served("sftp", drop.sftp)),
            ("FTP with TLS", served("ftps", drop.ftps)),
            ("FTP in clear", served("ftp", drop.ftp)),
            ("public host", drop.public or "the address it listens on"),
            ("passive ports", drop.passive or "any"),
            ("rate of a system", _rate(drop.rate)),
            ("host key", drop.host_key or "made when it is first switched on"),
            ("certificate", f"SHA-256 {drop.certificate}" if drop.certificate else "none yet"),
            ("free on its disk", free),
        ],
    )


def _rate(rate: int | None) -> str:
    if rate is None:
        return "not set up"
    return f"up to {size(rate)} a second" if rate else "any"


def _show_system(drop: DropOfSystem, arguments: argparse.Namespace) -> None:
    account = drop.account or f"none; make one: fennox drop login add {drop.system}"
    if drop.account and drop.keys:
        account += f", with {counted(drop.keys, 'key')}"
    show_one(
        drop,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="system",
        lines=[
            ("system", drop.system),
            ("account", account),
            ("made", f"{when(drop.made)} by {drop.by}" if drop.made else "-"),
            ("waits for", drop.waits or "nothing"),
        ],
    )
    if arguments.json or arguments.quiet:
        return
    if not drop.files:
        say("Nothing waits to be taken.")
        return
    rows: list[list[object]] = [
        [
            file.name,
            size(file.size),
            when(file.begun),
            file.problem if file.state == "broken" else file.state,
            "sealed" if file.sealed else "in clear",
            "" if file.expected else "its kind does not know it",
        ]
        for file in drop.files
    ]
    show_table(["FILE", "SIZE", "BEGAN", "STATE", "CONTENT", ""], rows)
