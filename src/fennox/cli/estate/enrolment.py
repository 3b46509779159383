"""Looking at machines before they are enrolled, and enrolling many at once from a CSV file."""

from __future__ import annotations

import argparse
import csv
import json
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from fennox.cli.estate.systems import settings_of
from fennox.cli.host_keys import accepted_list, ask_whether_its_own, with_accepted_key
from fennox.cli.main import FAILED, Environment
from fennox.cli.output import ask, can_ask, remaining, say, show_table, when
from fennox.cli.signed_in import client
from fennox.client.api import Client, ProblemError
from fennox.core.errors import BadInput, PersonNeeded
from fennox.core.names import noun, printable
from fennox.core.words import size
from fennox.wire.machines.enrolling import Looked, LookWanted, NewSystem

_NEEDED = ("name", "address", "login")
_COLUMNS = (*_NEEDED, "kind", "key", "via", "site", "labels")
_SETTING = "setting:"  # before a setting's name, as the title of a column


def look(arguments: argparse.Namespace, environment: Environment) -> int:
    """Show what answers there, and what a backup would hold and lack. Keeps nothing."""
    with client(environment) as service:

        def attempt(key: str | None) -> Looked:
            found = service.look_at_machine(
                LookWanted(
                    address=arguments.address,
                    login=arguments.login,
                    key=key,
                    kind=arguments.kind,
                    site=arguments.site,
                    via=arguments.via,
                    settings=settings_of(arguments),
                )
            )
            if found.accepted:
                return found
            return attempt(_accepted(arguments, found))

        found = with_accepted_key(attempt, arguments, arguments.address)
    if arguments.json:
        print(json.dumps(found.model_dump(mode="json"), indent=2))
        return 0
    if found.kind is None or found.machine is None:
        say(
            f"Several kinds match the machine at {found.address}: {', '.join(found.fits)}. Choose"
            " one with --kind, or"
        )
        say("write one that builds on them: docs/your-own-kind.md.")
        return FAILED
    _print_looked(found, service.now())
    say("Nothing was kept.")
    return 0


def _print_looked(found: Looked, now: datetime) -> None:
    """``found`` has a machine."""
    machine = found.machine
    assert machine is not None
    version = f"{machine.product} {machine.version}"
    print(f"{found.address} is a {found.kind}: {machine.name}, {version}, id {machine.id}")
    print(f"key {found.key}")
    if found.enrolled_as:
        print(f"It is enrolled already, as {found.enrolled_as}.")
    print()
    rows: list[list[object]] = [
        [part.name, part.title, part.documents, size(part.bytes)] for part in found.parts
    ]
    show_table(["PART", "", "DOCUMENTS", "SIZE"], rows)
    counts = (f"{count} {name}" for name, count in sorted(found.census.items()) if count)
    print(f"\nCounted: {', '.join(counts)}")
    for text in found.related:
        print(printable(text))
    for item in found.certificates:
        document = f"in {printable(item.document)}" if item.document else "that it presents"
        left = remaining(item.until, now)
        print(f"The certificate {document} ({item.subject}) ends {when(item.until)} ({left}).")
    for text in found.left_out:
        print(f"Left out: {printable(text)}.")
    for finding in found.findings:
        print(f"Lacks: {printable(finding.text)} {printable(finding.remedy)}".rstrip())


def _accepted(arguments: argparse.Namespace, found: Looked) -> str:
    """An inspection without a key only reports the key. A list or a person accepts it."""
    if arguments.accept_list and (found.address, found.key) in accepted_list(arguments.accept_list):
        return found.key
    say(f"{found.address} shows {found.key}, which nobody has accepted yet.")
    ask_whether_its_own(found.key)
    return found.key


@dataclass
class _Row:
    """One line of the file and its inspection. ``trouble``: why it cannot be enrolled."""

    line: int
    name: str
    address: str
    login: str
    kind: str
    key: str  # accepted: by the file, a list or a person
    via: str
    site: str
    labels: list[str]
    settings: dict[str, str]
    offered: str = ""
    trouble: str = ""

    def as_system(self) -> NewSystem:
        return NewSystem(
            name=self.name,
            kind=self.kind,
            address=self.address,
            login=self.login,
            key=self.key,
            site=self.site,
            labels=self.labels,
            settings=self.settings,
        )

    def wanted(self) -> LookWanted:
        return LookWanted(
            address=self.address,
            login=self.login,
            kind=self.kind or None,
            key=self.key or None,
            via=self.via or None,
            site=self.site,
            settings=self.settings,
        )


def add_many(arguments: argparse.Namespace, environment: Environment) -> int:
    """Inspects all machines before enrolling any. Never logs in where no key was accepted."""
    rows = _read(Path(arguments.file))
    listed = accepted_list(arguments.accept_list) if arguments.accept_list else set()
    with client(environment) as service:
        _look_at_all(service, rows, listed, dry_run=arguments.dry_run)
        if arguments.quiet:
            for row in rows:
                if row.offered and not row.trouble:
                    print(f"{row.address} {row.offered}")
        else:
            _show(rows)
        wrong = sum(bool(row.trouble) for row in rows)
        if arguments.dry_run or wrong:
            _say_unchanged(rows, wrong)
            return FAILED if wrong else 0
        for row in rows:
            service.add_system(row.as_system())
    say(f"{len(rows)} systems are enrolled. See which routines take them: fennox routine list")
    return 0


def _look_at_all(
    service: Client, rows: list[_Row], listed: set[tuple[str, str]], *, dry_run: bool
) -> None:
    """``listed``: fingerprints accepted beforehand."""
    known = {system.name for system in service.systems()}
    for row in rows:
        _offered(service, row, known, listed)
    if not dry_run:
        _accept([row for row in rows if not row.key and not row.trouble])
    for row in rows:
        if row.key and not row.trouble:
            say(f"Looking at {row.name} …")
            _look(service, row)


def _say_unchanged(rows: list[_Row], wrong: int) -> None:
    if wrong:
        say(f"{wrong} of {len(rows)} cannot be enrolled.")
    else:
        say(f"All {len(rows)} can be enrolled.")
    if any(not row.key and not row.trouble for row in rows):
        say(
            "Those without an accepted key were not logged in to; compare the keys, and accept them"
            " together."
        )
    say("Nothing was changed.")


def _read(path: Path) -> list[_Row]:
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            reader = csv.DictReader(file)
            titles = [title.strip().lower() for title in reader.fieldnames or []]
            reader.fieldnames = titles
            lines = [(reader.line_num, line) for line in reader]
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise BadInput(
            f"{path} cannot be read ({type(error).__name__}).", "Give a CSV file in UTF-8."
        ) from error
    missing = [title for title in _NEEDED if title not in titles]
    unknown = [
        title for title in titles if title not in _COLUMNS and not title.startswith(_SETTING)
    ]
    if missing or unknown:
        what = (
            f"lacks {', '.join(missing)}"
            if missing
            else f"has {', '.join(unknown)}, which are unknown"
        )
        raise BadInput(
            f"The titles in {path}: it {what}.",
            f"It may have: {', '.join(_COLUMNS)}, {_SETTING}NAME.",
        )
    rows = [
        _row(number, {title: (text or "").strip() for title, text in line.items() if title})
        for number, line in lines
    ]
    if not rows:
        raise BadInput(f"{path} has no line but its titles.", "Add a line for each system.")
    seen: set[str] = set()
    for row in rows:
        if row.name in seen:
            row.trouble = f"line {row.line}: {row.name} is there twice"
        seen.add(row.name)
    return rows


def _row(number: int, cells: dict[str, str]) -> _Row:
    row = _Row(
        number,
        cells["name"],
        cells["address"],
        cells["login"],
        cells.get("kind", ""),
        cells.get("key", ""),
        cells.get("via", ""),
        cells.get("site", ""),
        cells.get("labels", "").split(),
        {
            title.removeprefix(_SETTING): text
            for title, text in cells.items()
            if title.startswith(_SETTING) and text
        },
    )
    empty = [title for title in _NEEDED if not cells[title]]
    if empty:
        row.trouble = f"line {number}: {' and '.join(empty)} is empty"
        return row
    try:
        noun(row.name)
    except BadInput as error:
        row.trouble = f"line {number}: {error}"
    return row


def _offered(service: Client, row: _Row, known: set[str], listed: set[tuple[str, str]]) -> None:
    """The key the machine presents; no login is used."""
    if row.trouble:
        return
    if row.name in known:
        row.trouble = f"line {row.line}: there is a system {row.name} already"
        return
    try:
        found = service.look_at_machine(row.wanted().model_copy(update={"key": None}))
    except ProblemError as error:
        row.trouble = f"line {row.line}: {error.problem.detail} {error.problem.remedy}".strip()
        return
    row.address, row.offered = found.address, found.key
    if not row.key and (row.address, row.offered) in listed:
        row.key = row.offered


def _look(service: Client, row: _Row) -> None:
    try:
        found = service.look_at_machine(row.wanted())
    except ProblemError as error:
        row.trouble = f"line {row.line}: {error.problem.detail} {error.problem.remedy}".strip()
        return
    if found.kind is None:
        row.trouble = (
            f"line {row.line}: several kinds fit ({', '.join(found.fits)}); name one in the column"
            " kind"
        )
    elif found.enrolled_as:
        row.trouble = f"line {row.line}: it is enrolled already, as {found.enrolled_as}"
    else:
        row.kind = found.kind


def _show(rows: list[_Row]) -> None:
    table: list[list[object]] = []
    for row in rows:
        state = (
            "cannot be enrolled"
            if row.trouble
            else "accepted"
            if row.key
            else "nobody has accepted its key"
        )
        table.append([row.name, row.kind or "-", row.address, row.offered or "-", state])
    show_table(["NAME", "KIND", "ADDRESS", "KEY", ""], table)
    for row in rows:
        if row.trouble:
            say(printable(row.trouble))


def _accept(rows: list[_Row]) -> None:
    """One question for all fingerprints that neither the file nor a list covers."""
    if not rows:
        return
    for row in rows:
        say(f"{row.name:<20} {row.address:<24} {row.offered}")
    if not can_ask():
        raise PersonNeeded(
            "Nobody has accepted"
            f" {'this fingerprint' if len(rows) == 1 else f'these {len(rows)} fingerprints'}.",
            "Put them into the column key, or into a list of 'host:port FINGERPRINT' for"
            " --accept-list.",
        )
    if ask("Are they the machines' own keys? Type yes to accept all of them:") != "yes":
        raise PersonNeeded("The fingerprints were not accepted.", "Nothing was changed.")
    for row in rows:
        row.key = row.offered
