"""Drives the engine as the service does, without a service: one system, one store, runs one after
the other.
"""

from __future__ import annotations

import secrets
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import cache
from importlib.resources import files
from typing import Any

from fennox.core.compare import documents, value_search
from fennox.core.compare.model import MOST_CHANGES, Comparison, DocumentChange
from fennox.core.compare.value_search import Question
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.format import records
from fennox.core.format.manifest import Document, KindFile, Reached
from fennox.core.kind_files.loading import load, whole
from fennox.core.kinds.filling import for_system, values_of
from fennox.core.kinds.model import Kind
from fennox.core.kinds.rules import PlaceRule
from fennox.core.places import place_choices
from fennox.core.places.place_choices import PlaceDecisions, PlaceInputs
from fennox.core.places.placed import PlaceEntry
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring import plan_inputs, plan_steps, planning
from fennox.core.restoring.replicating import Peers
from fennox.core.restoring.sheet import Place, Sheet
from fennox.core.time import stamp
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.inspection.backup_comparison import compare, live_side, side_of
from fennox.engine.journal import Journal, MemoryJournal
from fennox.engine.processes import drawn_facts
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.processes.drawn_facts import DrawnFacts, Heard
from fennox.engine.reading.capture import identify
from fennox.engine.restoring import placing
from fennox.engine.restoring.placed_backup import PlacedBackup, added_by
from fennox.engine.restoring.restore import RestoreUnderWay
from fennox.engine.restoring.targets import WhoseLogin, look_at_target, save_target
from fennox.engine.takes.take import take
from fennox.engine.takes.take_order import Subject, Taken, TakeRequest, TakeTools
from fennox.engine.takes.unchanged_machine import RecordPlace
from fennox.links import web
from fennox.links.base import Address, Credential, Link
from fennox.links.secure_shell import ssh
from tests.conftest import NOON


def shipped_text(name: str) -> str:
    return files("fennox").joinpath(f"kinds/{name}.toml").read_text()


@cache
def shipped_kind(name: str) -> tuple[Kind, KindFile]:
    text = shipped_text(name)
    kind = load(text, shipped_text)
    return kind, KindFile(name=name, version=kind.version, text=whole(text, shipped_text))


async def no_peers(_: Sheet) -> Peers:
    return {}


async def nothing_new(_: Sheet) -> list[str]:
    """The old machine is as it was."""
    return []


class Here:
    """Evaluates in this process: what tests compare is harmless."""

    async def changed(
        self,
        kind: Kind,
        part: str,
        before: Document,
        after: Document,
        contents: tuple[bytes, bytes] | None,
        salt: bytes,
        *,
        patches: bool = False,
        room: int = MOST_CHANGES,
    ) -> DocumentChange | None:
        return documents.changed(
            kind, part, before, after, contents, salt, patches=patches, room=room
        )

    async def values(
        self, kind: Kind, question: Question, content: bytes, salt: bytes
    ) -> tuple[list[Any], str]:
        return value_search.values(kind, question, content, salt)

    async def told(self, heard: Heard) -> DrawnFacts:
        return drawn_facts.told(heard)

    async def quiet_digests(self, kind: Kind, contents: Mapping[str, bytes]) -> dict[str, str]:
        return drawn_facts.quiet_digests(kind, contents)

    async def places(self, inputs: PlaceInputs) -> PlaceDecisions:
        return place_choices.decide(inputs)

    async def rewritten(
        self, rules: list[PlaceRule], entries: list[tuple[str, PlaceEntry]], content: bytes
    ) -> bytes:
        return place_choices.rewrite(rules, entries, content)


@dataclass
class Keeper:
    """What a service knows of one system."""

    vault: Vault
    kind_name: str
    place: Place
    login: Credential
    settings: dict[str, str]
    index: PackIndex = field(default_factory=PackIndex)
    machine: str = ""
    id: str = field(default_factory=lambda: secrets.token_hex(16))
    last: Taken | None = None
    clock: datetime = NOON
    saved: list[Sheet] = field(default_factory=list)
    target_login: Credential | None = None
    carvers: Carvers | None = None

    def __post_init__(self) -> None:
        self.kind, self.kind_file = shipped_kind(self.kind_name)
        self.vault.now = self.now

    def now(self) -> datetime:
        self.clock += timedelta(seconds=1)
        return self.clock

    async def connect(self, place: Place, whose: WhoseLogin = "after") -> Link:
        host, port = place.address.rsplit(":", 1)
        address = Address(host, int(port))
        login = self.target_login if whose == "target" and self.target_login else self.login
        if self.kind.reach == "ssh":
            return await ssh.connect(address, login, place.key)
        return await web.connect(address, login, place.key)

    def subject(self, place: Place | None = None) -> Subject:
        place = place or self.place
        reached = Reached(address=place.address, account=place.account, key=place.key)
        return Subject(
            self.id,
            "web-9",
            f"web-9-{self.id[:8]}",
            self.kind,
            self.kind_file,
            self.settings,
            self.machine,
            reached,
        )

    def order(self, **changes: object) -> TakeRequest:
        previous = self.last and records.Previous(
            backup=self.last.reference.backup, digest=self.last.digest
        )
        sequence = self.last.reference.sequence + 1 if self.last else 1
        fixed = {"backup": secrets.token_hex(16), "run": secrets.token_hex(16), "attempt": 1}
        before = self.last and self.last.reference
        place = before and RecordPlace(before.folder, before.time, before.name)
        rest = {
            "time": stamp(self.now()),
            "sequence": sequence,
            "previous": previous,
            "before": place,
        }
        return TakeRequest(**{**fixed, **rest, **changes})  # type: ignore[arg-type]

    def tools(self, journal: Journal) -> TakeTools:
        return TakeTools(self.vault, self.index, journal, Here(), self.carvers)

    async def take(self, journal: Journal | None = None, **changes: object) -> Taken:
        link = await self.connect(self.place)
        try:
            taken = await take(
                self.tools(journal or MemoryJournal()),
                link,
                self.subject(),
                self.order(**changes),
                any_machine=False,
            )
        finally:
            await link.close()
        self.last, self.machine = taken, taken.head.machine.id
        return taken

    async def compare(self, before: Taken, after: Taken) -> Comparison:
        left, right = (
            await side_of(await self.reader(before)),
            await side_of(await self.reader(after)),
        )
        return await compare(for_system(self.kind, self.settings), left, right, b"salt" * 4, Here())

    async def compare_live(self, before: Taken) -> Comparison:
        """The backup and the system as it is now."""
        left = await side_of(await self.reader(before))
        link = await self.connect(self.place)
        try:
            live = await live_side(self.kind, link, self.settings, left, self.machine, Here())
            return await compare(
                for_system(self.kind, self.settings), left, live, b"salt" * 4, Here()
            )
        finally:
            await link.close()

    async def reader(self, taken: Taken) -> BackupReader:
        return BackupReader(
            self.vault, self.index, await self.vault.find_record(taken.reference.backup)
        )

    async def draft(
        self,
        taken: Taken,
        target: Place,
        login: Credential,
        parts: list[str] | None = None,
        purpose: RestorePurpose = "repair",
        places: Mapping[str, str] | None = None,
    ) -> Sheet:
        self.target_login = login
        link = await self.connect(target, "target")
        try:
            chosen = parts_to_take(self.kind, parts)
            seen = await look_at_target(self.kind, link, target, self.settings, chosen, Here())
        finally:
            await link.close()
        reader, kind = await self.reader(taken), for_system(self.kind, self.settings)
        wishes = placing.PlaceWishes(
            purpose, seen.machine.id == self.machine, "web-10", places or {}
        )
        written = plan_inputs.written_parts(self.kind, chosen)
        placed, found = await placing.place(reader, kind, written, seen, wishes, Here())
        backup = PlacedBackup(reader, kind, placed, Here())
        source = plan_inputs.RestoreSource(
            taken.reference.backup,
            self.id,
            "web-9",
            await backup.head(),
            await backup.digests(chosen),
            self.login.account,
            placed=placed,
            standing=found,
        )
        return planning.plan(
            self.kind,
            planning.Intent(purpose),
            source,
            seen,
            chosen,
            values_of(self.kind, self.settings),
        )

    async def draft_way_back(self, sheet: Sheet, taken: Taken) -> tuple[Sheet, Taken]:
        """The sheet that puts the safety copy back, and that copy."""
        assert sheet.safety is not None
        place = sheet.after.place if sheet.rejoined else sheet.target
        link = await self.connect(place, "after" if sheet.rejoined else "target")
        record = await self.vault.find_record(sheet.safety)
        safety = BackupReader(self.vault, self.index, record)
        head, kind = await safety.head(), for_system(self.kind, self.settings)
        parts = [part.name for part in head.parts]
        try:
            seen = await look_at_target(self.kind, link, place, self.settings, parts, Here())
        finally:
            await link.close()
        written = plan_inputs.written_parts(self.kind, sheet.parts)
        original = PlacedBackup(await self.reader(taken), kind, sheet.placed, Here())
        added = await added_by(original, safety, seen, written)
        wishes = placing.PlaceWishes("return", False, None, {})
        placed, _ = await placing.place(safety, kind, written, seen, wishes, Here())
        backup = PlacedBackup(safety, kind, placed, Here())
        # from now on the machine's own login is the one afterwards
        self.login, self.target_login = self.target_login or self.login, self.login
        source = plan_inputs.RestoreSource(
            sheet.safety,
            self.id,
            "web-9",
            head,
            await backup.digests(parts),
            self.login.account,
            placed=placed,
        )
        back = plan_steps.WayBack("sheet", sheet.to_undo(), [*added, *sheet.made()])
        way = planning.plan(
            self.kind,
            planning.Intent("return", way_back=back),
            source,
            seen,
            parts,
            values_of(self.kind, self.settings),
        )
        return way, replace(taken, reference=record.reference)

    async def restore(
        self,
        sheet: Sheet,
        taken: Taken,
        journal: Journal | None = None,
        save: Callable[[Sheet], Awaitable[None]] | None = None,
    ) -> Sheet:
        async def keep(changed: Sheet) -> None:
            self.saved.append(changed.model_copy(deep=True))

        async def take_safety(link: Link) -> Taken:
            order = self.order(name="before-restore", purpose="safety")
            subject = self.subject(sheet.target)
            tools = TakeTools(self.vault, self.index, MemoryJournal(), Here())
            return await save_target(tools, link, subject, order)

        restore = RestoreUnderWay(
            sheet=sheet,
            kind=self.kind,
            reader=await self.reader(taken),
            settings=self.settings,
            journal=journal or MemoryJournal(),
            now=self.now,
            connect=self.connect,
            evaluates=Here(),
            save=save or keep,
            take_safety=take_safety,
            see_old_machine=nothing_new,
            see_peers=no_peers,
        )
        return await restore.go_on()

    def answer(self, sheet: Sheet, answer: str) -> None:
        gate = sheet.open_gate()
        assert gate is not None
        gate.answer, gate.by, gate.at = answer, "harbour-admin", self.now()

    async def who(self) -> str:
        link = await self.connect(self.place)
        try:
            return (await identify(self.kind, link, self.settings)).id
        finally:
            await link.close()
