"""`kind try --restore`: a backup of one machine is practised on a spare by a kind file, without a
service. Nothing is kept but what is on the spare.
"""

from __future__ import annotations

import argparse
import asyncio
import secrets
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from fennox.cli.estate.restores import places_given
from fennox.cli.estate.run_sheets import print_sheet
from fennox.cli.local.kind_files import TriedMachine, machine_of, reached, texts_beside
from fennox.cli.main import FAILED, PERSON
from fennox.cli.output import ask, can_ask, say
from fennox.core.errors import BadInput, PersonNeeded
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.format import header as headers
from fennox.core.format.manifest import KindFile
from fennox.core.format.primitives.hpke import CLASSIC
from fennox.core.kind_files.loading import whole
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.backups import opened_store
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Level, MemoryJournal
from fennox.engine.processes.evaluator_pool import Evaluators
from fennox.engine.restoring.rehearsal import KindRehearsal
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential, Link, parse_address
from fennox.stores.folder import FolderStore
from fennox.wire.restores import SheetShown


class _Aloud(MemoryJournal):
    """Says each stage."""

    async def step(self, title: str) -> None:
        say(f"{title} …")
        await super().step(title)

    async def log(self, level: Level, text: str) -> None:
        if level in ("warning", "error"):
            say(text, style="yellow")


async def rehearse(kind: Kind, arguments: argparse.Namespace, settings: dict[str, str]) -> int:
    values_of(kind, settings)
    parts_to_take(kind, arguments.part)
    source, spare = machine_of(kind, arguments), _spare(kind, arguments)
    if source.address == spare.address:
        raise BadInput(
            f"{spare.address} is the machine that is read: it would be overwritten.",
            "Give another one with --onto.",
        )
    file = _kind_file(kind, Path(arguments.file))
    machines = {str(one.address): one for one in (source, spare)}

    async def connect(place: Place) -> Link:
        # the spare may answer elsewhere by now, and by another key
        there = parse_address(place.address, kind.port)
        known = machines.get(place.address, replace(spare, address=there))
        return await reached(kind, replace(known, key=place.key or None), settings)

    readings = Evaluators.of_readings()
    with TemporaryDirectory(prefix="fennox-rehearsal-") as folder:
        vault = await _store(Path(folder))
        place = _place(source)
        rehearsal = KindRehearsal(vault, kind, file, settings, place, connect, _Aloud(), readings)
        try:
            return await _rehearsed(rehearsal, spare, arguments)
        finally:
            await readings.close()


def _spare(kind: Kind, arguments: argparse.Namespace) -> TriedMachine:
    if arguments.onto is None:
        raise BadInput("The spare is missing.", "Give --onto ADDRESS: it is overwritten.")
    own = machine_of(kind, arguments).who
    account = arguments.onto_account or own.account
    who = replace(own, account=account)
    if arguments.onto_key is not None:
        key = Path(arguments.onto_key).read_text(encoding="utf-8")
        who = Credential(account, private_key=key)
    address = parse_address(arguments.onto, kind.port)
    return TriedMachine(address, who, arguments.accept_onto_key, "--accept-onto-key")


def _kind_file(kind: Kind, file: Path) -> KindFile:
    text = whole(file.read_text(encoding="utf-8"), texts_beside(file))
    return KindFile(name=kind.name, version=kind.version, text=text)


def _place(machine: TriedMachine) -> Place:
    return Place(address=str(machine.address), account=machine.who.account, key=machine.key or "")


async def _store(folder: Path) -> Vault:
    """A store for this one backup; its passphrase is made up and forgotten."""

    def now() -> datetime:
        return datetime.now(UTC)

    keys = headers.new_keys(secrets.token_hex(16), 1, CLASSIC, secrets.token_bytes)
    return await opened_store.create(
        FolderStore(folder), keys, sweeper=secrets.token_hex(16), slots=[], now=now
    )


async def _rehearsed(
    rehearsal: KindRehearsal, spare: TriedMachine, arguments: argparse.Namespace
) -> int:
    with _timed("Taken"):
        taken = await rehearsal.take(arguments.part)
    place = _place(spare)
    with _timed("Drafted"):
        places = places_given(arguments.place or [])
        sheet = await rehearsal.draft(taken, place, arguments.part, places)
    _print(sheet)
    if sheet.blockers():
        say("Nothing has been changed. It cannot begin before what blocks it is mended.")
        return PERSON
    _confirmed(str(spare.address), arguments.yes)
    with _timed("Put back and proved"):
        sheet = await _to_its_end(rehearsal, sheet, taken)
    _print(sheet)
    if sheet.state == "waiting":
        say("It waits for a person; run it again at a terminal.")
        return PERSON
    say("Nothing was kept but what is on the spare now.")
    return 0 if sheet.state == "proved" else FAILED


async def _to_its_end(rehearsal: KindRehearsal, sheet: Sheet, taken: Taken) -> Sheet:
    while True:
        sheet = await rehearsal.go_on(sheet, taken)
        gate = sheet.open_gate()
        if gate is None or not can_ask():
            return sheet
        say(gate.question, style="bold")
        words = f"Type {' or '.join(gate.choices)} (anything else ends it):"
        given = await asyncio.to_thread(ask, words)
        if given not in gate.choices:
            return sheet
        gate.answer, gate.by, gate.at = given, "you", rehearsal.vault.now()


def _confirmed(address: str, given: str | None) -> None:
    if given is None:
        if not can_ask():
            raise PersonNeeded(
                f"Nobody can be asked here whether {address} may be overwritten.",
                f"Read the sheet, then give --yes {address}.",
            )
        given = ask(f"What {address} holds is overwritten. Type its address to begin:")
    if given != address:
        raise PersonNeeded(f"{given!r} is not {address}.", "Nothing was changed.")


@contextmanager
def _timed(what: str) -> Iterator[None]:
    begun = time.monotonic()
    yield
    say(f"{what} in {time.monotonic() - begun:.1f} seconds.")


def _print(sheet: Sheet) -> None:
    print_sheet(
        SheetShown(
            id="rehearsal",
            created=datetime.now(UTC),
            by="you",
            run=None,
            sheet=sheet,
            acts=[],
            blockers=len(sheet.blockers()),
            estate_afterwards="No estate is concerned.",
            expected_seconds=None,
            to_undo=sheet.to_undo(),
            in_force=sheet.in_force(),
            staying=sheet.staying(),
        )
    )
