"""Kinds."""

from __future__ import annotations

import argparse
from pathlib import Path

from fennox.cli.main import Environment
from fennox.cli.output import say, show_list, show_one
from fennox.cli.signed_in import client
from fennox.core.errors import BadInput, NotFound
from fennox.core.names import printable
from fennox.wire.kinds import PartShown


def add_kind(arguments: argparse.Namespace, environment: Environment) -> None:
    try:
        text = Path(arguments.file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            f"{arguments.file} cannot be read ({type(error).__name__}).", "Check the file."
        ) from error
    with client(environment) as service:
        found = service.add_kind(text)
    lines: list[tuple[str, object]] = [
        ("kind", found.name),
        ("version", found.version),
        ("title", found.title),
    ]
    show_one(found, as_json=arguments.json, quiet=arguments.quiet, key="name", lines=lines)
    if not arguments.json and not arguments.quiet:
        login = "" if found.reach in ("hand", "push") else " --login LOGIN"
        say(f"Enrol a system of it: fennox system add NAME {found.name} ADDRESS{login}")


def draft_kind(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        text = service.draft_kind(arguments.on, arguments.package).text
    if arguments.to is None:
        print(text, end="")
        return
    try:
        with Path(arguments.to).open("x", encoding="utf-8") as file:
            file.write(text)
    except OSError as error:
        why = "it is there already" if isinstance(error, FileExistsError) else type(error).__name__
        raise BadInput(
            f"{arguments.to} cannot be written: {why}.", "Give another name with --to."
        ) from error
    say(f"Read every line of it, then: fennox kind check {arguments.to}")


def kinds(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.kinds()
    show_list(
        found,
        [
            ("KIND", lambda kind: kind.name),
            ("TITLE", lambda kind: kind.title),
            ("VERSION", lambda kind: kind.version),
            ("REACHED BY", lambda kind: f"{kind.reach} (port {kind.port})"),
            ("PARTS", lambda kind: ", ".join(part.name for part in kind.parts)),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        none="There are no kinds.",
    )


def kind(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = next((kind for kind in service.kinds() if kind.name == arguments.kind), None)
    if found is None:
        raise NotFound(
            f"There is no kind {arguments.kind}.", "`fennox kind list` shows those there are."
        )
    parts = [f"{part.name}: {part.title}{_of_part(part)}" for part in found.parts]
    show_one(
        found,
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="name",
        lines=[
            ("kind", f"{found.name} version {found.version}"),
            ("title", found.title),
            ("about", " ".join(found.about.split())),
            ("reached by", f"{found.reach} (port {found.port})"),
            *[("part", part) for part in parts],
            *[("takes", printable(text)) for part in found.parts for text in part.documents],
            *[
                ("overwrites", f"{part.name}: {part.overwrites}")
                for part in found.parts
                if part.overwrites
            ],
            ("counts", ", ".join(found.census)),
            *[
                ("setting", f"{name}: {title}{_of_setting(found.defaults[name])}")
                for name, title in found.settings.items()
            ],
            *[("left out", text) for text in found.left_out],
            *[("rule", printable(text)) for text in found.rules],
            *[("step", text) for text in found.steps],
        ],
    )


def _of_part(part: PartShown) -> str:
    told = [
        *(["essential"] if part.essential else []),
        *([] if part.default else ["only when asked for"]),
        *([f"takes along {', '.join(part.needs)}"] if part.needs else []),
    ]
    return f" ({'; '.join(told)})" if told else ""


def _of_setting(default: str) -> str:
    return f" (else {printable(default)})" if default else ""
