"""Showing what changed."""

from __future__ import annotations

import argparse
import json
from datetime import datetime
from itertools import groupby
from typing import Any

from pydantic import SecretStr

from fennox.cli.access import first_line
from fennox.cli.main import Environment
from fennox.cli.output import when
from fennox.cli.signed_in import client
from fennox.core.compare.model import Change, Comparison, DocumentChange
from fennox.core.errors import BadInput
from fennox.core.names import printable
from fennox.core.words import counted
from fennox.wire.comparing import CompareWanted, StandingShown, TraceWanted

_WAYS = (
    "Give BEFORE AFTER, BEFORE --live, or --system NAME with --since TIME or --live if you like."
)
_LONGEST = 100  # characters of a value that are shown on a line
_SHOWN = 8  # changes of a document that a trace shows
_OTHER = "is read by other rules on each side, as the kind has changed"
_SIGNS = {"added": "+", "removed": "-", "changed": "~"}


def compare(arguments: argparse.Namespace, environment: Environment) -> None:
    phrase = SecretStr(first_line(arguments.passphrase_file)) if arguments.passphrase_file else None
    if (arguments.system is None) == (arguments.before is None):
        raise BadInput("Two backups or a system are needed.", _WAYS)
    if arguments.before is not None and bool(arguments.after) == arguments.live:
        raise BadInput("A backup is compared with another one, or with the live system.", _WAYS)
    if arguments.since and arguments.system is None:
        raise BadInput("--since goes with --system.", "Give --system NAME.")
    wanted = CompareWanted(
        before=arguments.before,
        after=arguments.after,
        system=arguments.system,
        since=_moment(arguments.since),
        live=arguments.live,
        only=arguments.document or ["*"],
        passphrase=phrase,
    )
    with client(environment) as service:
        if arguments.json_patch:
            print(json.dumps(service.compare_as_patch(wanted), indent=2))
            return
        found = service.compare(wanted)
    if arguments.json:
        print(json.dumps(found.model_dump(mode="json"), indent=2))
        return
    if arguments.quiet:
        for document in found.comparison.documents:
            print(printable(document.path))
        return
    for word, side in (("From", found.before), ("to", found.after)):
        name = f" ({side.name})" if side.name else ""
        print(f"{word:<5}{side.system}, {when(side.time)}, {side.id[:12] or 'as it is now'}{name}")
    for line in lines(found.comparison):
        print(line)


def _moment(text: str | None) -> datetime | None:
    if text is None:
        return None
    try:
        return datetime.fromisoformat(text).astimezone()
    except ValueError as error:
        raise BadInput(f"{text!r} is no time.", "Write 2026-11-17 or 2026-11-17T08:30.") from error


def lines(comparison: Comparison) -> list[str]:
    """A comparison as text, part by part."""
    found: list[str] = []
    for part, documents in groupby(comparison.documents, key=lambda document: document.part):
        found += ["", part]
        for document in documents:
            found += document_lines(document)
    if comparison.lists:
        found += ["", "counted"]
    for item in comparison.lists:
        gone = [f"-{name}" for name in item.removed]
        come = [f"+{name}" for name in item.added]
        found.append(f"  {item.name}: {_shown(', '.join([*gone, *come]))}")
    for word, parts in (
        ("before", comparison.only_left_parts),
        ("after", comparison.only_right_parts),
    ):
        found += [
            f"Only the backup {word} holds the part {part}; it is not compared." for part in parts
        ]
    found += [
        f"The part {part} {_OTHER}: what came or went may be the rules' doing."
        for part in comparison.other_sources
    ]
    found += [
        f"The list {name} {_OTHER}, so it is not compared." for name in comparison.other_lists
    ]
    noise = f", {comparison.noise} differ only in what means nothing" if comparison.noise else ""
    changed = len(comparison.documents)
    differ = (
        f"{counted(changed, 'document')} {'differs' if changed == 1 else 'differ'}"
        if changed
        else "No document differs"
    )
    found += [
        "",
        f"{differ}, {comparison.same} {'is' if comparison.same == 1 else 'are'} equal{noise}.",
    ]
    return found


def document_lines(document: DocumentChange) -> list[str]:
    """One changed document as text, its path first."""
    found = [f"  {_SIGNS[document.what]} {printable(document.path)}"]
    if document.said:
        found.append(f"      {document.said}")
    return found + [
        f"      {line}"
        for change in [*document.attributes, *document.changes]
        for line in _change(change)
    ]


def _change(change: Change) -> list[str]:
    where = printable(" / ".join(change.path))
    if change.secret and change.what == "changed":
        return [f"~ {where}: secret, and has changed"]
    match change.what:
        case "added":
            return [f"+ {where}: {_shown(change.after)}"]
        case "removed":
            return [f"- {where}: {_shown(change.before)}"]
    return [f"~ {where}: {_shown(change.before)} → {_shown(change.after)}"]


def _shown(value: Any) -> str:
    text = printable(value if isinstance(value, str) else json.dumps(value, ensure_ascii=False))
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]}… ({len(text)} characters)"


def trace(arguments: argparse.Namespace, environment: Environment) -> None:
    phrase = SecretStr(first_line(arguments.passphrase_file)) if arguments.passphrase_file else None
    wanted = TraceWanted(
        system=arguments.system,
        document=arguments.document,
        jsonpath=arguments.jsonpath,
        line=arguments.line,
        list=arguments.list,
        passphrase=phrase,
    )
    with client(environment) as service:
        found = service.trace(wanted)
    if arguments.json:
        print(json.dumps(found.model_dump(mode="json"), indent=2))
        return
    states = "1 state" if len(found.standings) == 1 else f"{len(found.standings)} states"
    print(
        f"{found.system}, {printable(wanted.document or wanted.list)}: {states} in"
        f" {found.looked_at} backups"
    )
    older = [*found.standings[1:], None]
    for standing, before in zip(found.standings, older, strict=True):
        print()
        for line in _standing(standing, before, wanted):
            print(line)
    for line in found.unread:
        print(f"\nNot looked into: {printable(line)}")


def _standing(
    standing: StandingShown, before: StandingShown | None, wanted: TraceWanted
) -> list[str]:
    until = (
        "" if standing.last.id == standing.first.id else f", last seen {when(standing.last.time)}"
    )
    since = "since" if before is not None else "from the first backup,"
    found = [f"{since} {when(standing.first.time)} ({standing.first.id[:12]}){until}"]
    if not standing.there:
        return [*found, "  not there"]
    if standing.said:
        return [*found, f"  {standing.said}"]
    if standing.change is not None:
        told = [f"  {line.strip()}" for line in document_lines(standing.change)[1:]]
        if len(told) > _SHOWN and before is not None:
            sides = f"{before.last.id[:12]} {standing.first.id[:12]}"
            told[_SHOWN:] = [
                f"  and {len(told) - _SHOWN} more changes; all of them: fennox backup compare"
                f" {sides}"
            ]
        return [*found, *told]
    if wanted.list:
        return [
            *found,
            *_names(
                standing.values, before.values if before is not None and before.there else None
            ),
        ]
    if not (wanted.jsonpath or wanted.line):
        return [*found, "  there"]
    return [*found, *(f"  {_shown(value)}" for value in standing.values or ["nothing fits"])]


def _names(now: list[Any], before: list[Any] | None) -> list[str]:
    if before is None:
        return [f"  {len(now)}: {_shown(', '.join(now))}"]
    gone, come = (
        [name for name in before if name not in now],
        [name for name in now if name not in before],
    )
    return [
        f"  {sign} {printable(name)}"
        for sign, names in (("+", come), ("-", gone))
        for name in names
    ]
