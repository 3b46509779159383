"""Taking, looking at and exporting backups."""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

from pydantic import SecretStr

from fennox.cli.access import first_line
from fennox.cli.estate import runs
from fennox.cli.main import Environment
from fennox.cli.output import say, show_list, show_one, show_table, when
from fennox.cli.signed_in import client
from fennox.client.api import Client
from fennox.core.errors import BadInput
from fennox.core.facts.run_results import CopyResult, TakeResult, VerifyResult
from fennox.core.words import counted, size
from fennox.wire.backups import BackupShown, CopyShown, ExportWanted, NewTake
from fennox.wire.watch.runs import RunShown


def take(arguments: argparse.Namespace, environment: Environment) -> int:
    wanted = NewTake(
        system=arguments.system,
        store=arguments.store,
        name=arguments.name,
        note=arguments.note,
        parts=arguments.part,
        hold=arguments.hold,
        wait=not arguments.no_wait,
    )
    with client(environment) as service:
        run = service.take(wanted)
        if arguments.no_follow:
            lines: list[tuple[str, object]] = [("run", run.id), ("state", run.state)]
            show_one(run, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)
            return 0
        run = runs.watch(service, run.id, arguments)
        if run.state != "done":
            return runs.ending(run)
        result = run.told(TakeResult)
        backup = service.backup(result.backup)
    show_backup(backup, arguments)
    if not arguments.json and not arguments.quiet:
        objects, new = result.objects, size(result.new_bytes)
        if result.unchanged:
            say(f"Unchanged since the last backup: {counted(objects, 'object')} of {new}.")
        else:
            differs = [("changed", result.changed), ("new", result.new), ("gone", result.gone)]
            said = ", ".join(
                f"{counted(count, 'document')} {word}" for word, count in differs if count
            )
            since = f" Since the last backup: {said}." if said else ""
            written = "was" if objects == 1 else "were"
            say(f"{counted(objects, 'object')} with {new} {written} written to {run.store}.{since}")
    return 0


def show_backup(backup: BackupShown, arguments: argparse.Namespace) -> None:
    lines: list[tuple[str, object]] = [*_identity(backup), *_content(backup)]
    lines.append(("kept by", ", ".join(backup.kept_by) or "nothing: it goes"))
    lines += _standing(backup)
    show_one(backup, as_json=arguments.json, quiet=arguments.quiet, key="id", lines=lines)


def _identity(backup: BackupShown) -> Iterator[tuple[str, str]]:
    yield "backup", backup.id
    yield "system", f"{backup.system} ({backup.kind})"
    yield "name", backup.name or "-"
    yield "note", backup.note or "-"
    yield "taken", when(backup.time)
    yield "machine", f"{backup.machine.name} {backup.machine.id}"
    yield "version", f"{backup.machine.product} {backup.machine.version}"
    for copy in backup.copies:
        yield "held in", _place(copy)


def _content(backup: BackupShown) -> Iterator[tuple[str, str]]:
    documents = counted(backup.documents, "document")
    yield "size", f"{documents}, {size(backup.bytes)}; {size(backup.new_bytes)} new in the store"
    for part in backup.parts:
        yield "part", f"{part.name}: {counted(part.documents, 'document')}, {size(part.bytes)}"
    yield "counts", ", ".join(f"{count} {name}" for name, count in sorted(backup.census.items()))
    if backup.not_counted:
        yield "not counted", f"{', '.join(backup.not_counted)}: it lacks parts"
    for text in backup.worth:
        yield "worth", text
    for finding in backup.findings:
        yield "LACKS", f"{finding.text} {finding.remedy}"


def _standing(backup: BackupShown) -> Iterator[tuple[str, str]]:
    clear = f"fennox backup clear {backup.id[:12]} --because …"
    if backup.doubtful:
        compare = f"fennox backup compare --system {backup.system}"
        yield "DOUBTFUL", f"{backup.doubtful_because}. Look: {compare}. Then: {clear}"
    if backup.future or backup.misdated:
        which = "is in the future" if backup.future else "is wrong: it was taken at another time"
        yield (
            "DATE",
            f"Its date {which}. It stays until somebody has looked; no ladder counts by it. Then:"
            f" {clear}",
        )
    if backup.expired:
        yield (
            "MARKED",
            f"{when(backup.expired_at)}: a sweep removes it in two days or later. Keep it: fennox"
            f" backup keep {backup.id[:12]}",
        )
    if backup.held:
        yield "on hold", backup.held_because


def _place(copy: CopyShown) -> str:
    verified = f"verified {when(copy.verified)}" if copy.verified else "not verified yet"
    damaged = f"; DAMAGED: {copy.damaged}" if copy.damaged else ""
    untold = f"; not written there yet: {', '.join(copy.untold)}" if copy.untold else ""
    return f"{copy.store} (opened by {copy.opened_by}; {verified}{damaged}{untold})"


def copy(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        return _followed(service, service.copy(arguments.backup, arguments.to), arguments)


def verify(arguments: argparse.Namespace, environment: Environment) -> int:
    with client(environment) as service:
        return _followed(service, service.verify(arguments.backup, arguments.store), arguments)


def _followed(service: Client, run: RunShown, arguments: argparse.Namespace) -> int:
    return runs.started(service, run, arguments, _SAID)


def _copied(run: RunShown) -> str:
    result = run.told(CopyResult)
    anew = ", resealed" if result.sealed_anew else ""
    return (
        f"{result.objects} objects with {size(result.new_bytes)} were written to {run.store}{anew}."
    )


_SAID = {
    "copy": _copied,
    "verify": lambda run: f"{run.told(VerifyResult).opened} opened and read whole.",
}


def _marks(backup: BackupShown) -> str:
    marks = {
        "safety copy": backup.purpose == "safety",
        "on hold": backup.held,
        "doubtful": backup.doubtful,
        "DAMAGED": backup.damaged,
        "marked to go": backup.expired,
        "FROM THE FUTURE": backup.future,
        "WRONG DATE": backup.misdated and not backup.future,
        "partial": backup.partial,
        "lacks something": bool(backup.findings),
    }
    return ", ".join(name for name, set_ in marks.items() if set_) or "-"


def list_backups(arguments: argparse.Namespace, environment: Environment) -> None:
    if arguments.removed:
        _list_removed(arguments, environment)
        return
    with client(environment) as service:
        found = service.backups(system=arguments.system, limit=arguments.limit)
    show_list(
        found,
        [
            ("ID", lambda backup: backup.id[:12]),
            ("SYSTEM", lambda backup: backup.system),
            ("TAKEN", lambda backup: when(backup.time)),
            ("NAME", lambda backup: backup.name or "-"),
            ("NOTE", lambda backup: backup.note[:40] or "-"),
            (
                "BY",
                lambda backup: (
                    backup.routine or ("a restore" if backup.purpose == "safety" else "hand")
                ),
            ),
            ("DOCUMENTS", lambda backup: backup.documents),
            ("SIZE", lambda backup: size(backup.bytes)),
            ("NEW", lambda backup: "unchanged" if backup.unchanged else size(backup.new_bytes)),
            ("HELD IN", lambda backup: ", ".join(backup.stores)),
            ("REMARKS", _marks),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="id",
        none="There are no backups yet. Take one with `fennox backup take SYSTEM`.",
        spare=["NEW", "DOCUMENTS", "BY", "SIZE"],
        if_room="NOTE",
    )


def show(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        backup = service.backup(arguments.backup)
        documents = service.documents(backup.id) if arguments.documents else []
    show_backup(backup, arguments)
    if documents and not arguments.json and not arguments.quiet:
        show_table(
            ["PART", "TYPE", "MODE", "OWNER", "SIZE", "PATH"],
            [
                [
                    document.part,
                    document.type,
                    f"{document.mode:04o}" if document.mode is not None else "-",
                    document.owner or "-",
                    document.size,
                    document.path.encode("unicode_escape").decode()
                    + (" (secret)" if document.secret else ""),
                ]
                for document in documents
            ],
        )


def export(arguments: argparse.Namespace, environment: Environment) -> None:
    target = Path(arguments.to)
    forms: dict[str, Literal["tar.zst", "tar.gz"]] = {".tar.zst": "tar.zst", ".tar.gz": "tar.gz"}
    form = next((form for ending, form in forms.items() if target.name.endswith(ending)), None)
    if form is None:
        raise BadInput(
            f"{target.name} ends in neither .tar.zst nor .tar.gz.", "Choose one of the two."
        )
    if target.exists():
        raise BadInput(
            f"{target} is already there.", "Choose another name; nothing is overwritten."
        )
    phrase = SecretStr(first_line(arguments.passphrase_file)) if arguments.passphrase_file else None
    unfinished = target.with_name(target.name + ".unfinished")
    total = 0
    with client(environment) as service:
        try:
            handle = os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
            with os.fdopen(handle, "wb") as file:
                wanted = ExportWanted(format=form, parts=arguments.part, passphrase=phrase)
                for block in service.export(arguments.backup, wanted):
                    total += file.write(block)
            unfinished.rename(target)
        except OSError as error:
            raise BadInput(
                f"{target} cannot be written ({error.strerror}).", "Choose another place."
            ) from error
        finally:
            unfinished.unlink(missing_ok=True)
    say(
        f"{size(total)} written to {target}. It is NOT encrypted: it holds passwords and keys. Take"
        " care of it."
    )


def _list_removed(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.removals(system=arguments.system, limit=arguments.limit)
    show_list(
        found,
        [
            ("ID", lambda item: item.backup[:12]),
            ("SYSTEM", lambda item: item.system),
            ("TAKEN", lambda item: when(item.time)),
            ("NAME", lambda item: item.name or "-"),
            ("SIZE", lambda item: size(item.bytes)),
            ("REMOVED", lambda item: when(item.removed)),
            ("FROM", lambda item: item.store),
            ("WHY", lambda item: item.why),
        ],
        as_json=arguments.json,
        quiet=arguments.quiet,
        key="backup",
        none=(
            f"No sweep has removed a backup{f' of {arguments.system}' if arguments.system else ''}"
            " within a year."
        ),
        spare=["NAME", "SIZE"],
    )


def keep(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        found = service.keep(arguments.backup, arguments.because)
    show_backup(found, arguments)
    if not arguments.json and not arguments.quiet:
        say(f"It stays until it is released: fennox backup release {found.id[:12]} --reason …")


def hold(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        show_backup(service.hold(arguments.backup, arguments.reason), arguments)


def clear(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        show_backup(
            service.clear(arguments.backup, arguments.because, good=not arguments.bad), arguments
        )


def release(arguments: argparse.Namespace, environment: Environment) -> None:
    with client(environment) as service:
        show_backup(service.release(arguments.backup, arguments.reason), arguments)
