"""The implementation of each step verb on the target."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import assert_never

import anyio

from fennox.core.compare.sensitive import without_secrets
from fennox.core.errors import Damaged, FarSideFailed, FennoxError, TryLater
from fennox.core.format.manifest import Document
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled
from fennox.core.kinds.filling import filled_in, values_of
from fennox.core.kinds.model import Kind
from fennox.core.kinds.steps import StepModel
from fennox.core.names import printable
from fennox.core.regexes import compiled
from fennox.core.restoring import (
    changed_facts,
    plan_inputs,
    plan_steps,
    planning,
    proving,
    replicating,
)
from fennox.core.restoring.plan_inputs import Target
from fennox.core.restoring.proof import ListProof
from fennox.core.restoring.sheet import Sheet, SheetStep
from fennox.core.words import counted, size
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.vault import Now
from fennox.engine.drop import OffersDocuments
from fennox.engine.journal import Journal
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.restoring import extraction
from fennox.engine.restoring.meeting_peers import PeerMeeting, SeePeers
from fennox.engine.restoring.placed_backup import PlacedBackup
from fennox.engine.restoring.sending import Sending
from fennox.engine.restoring.targets import Connect, ReachedTarget
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Link

_PAUSE = 0.5  # seconds between two tries of a check
_SAID = 1000  # characters of what a command said that go into the log
_AT_ONCE = 200  # paths in one command
_REMOVE = (
    'for at; do if [ -d "$at" ] && [ ! -L "$at" ]; then rmdir -- "$at" 2>/dev/null || :; else rm'
    ' -f -- "$at" || exit 1; fi; done'
)


@dataclass
class StepVerbs:
    """A restore's sheet, backup and target, and the step verbs."""

    sheet: Sheet
    kind: Kind
    reader: BackupReader
    settings: dict[str, str]
    journal: Journal
    now: Now
    connect: Connect
    evaluates: Evaluates
    save: Callable[[Sheet], Awaitable[None]]
    take_safety: Callable[[Link], Awaitable[Taken]]
    # reports as text what the old machine newly does
    see_old_machine: Callable[[Sheet], Awaitable[list[str]]]
    see_peers: SeePeers
    offers: OffersDocuments | None = None
    _reached: ReachedTarget = field(init=False)
    _backup: PlacedBackup = field(init=False)
    _sending: Sending = field(init=False)
    _meeting: PeerMeeting = field(init=False)

    def __post_init__(self) -> None:
        self._reached = ReachedTarget(
            self.sheet, self.kind, self.settings, self.journal, self.connect, self.evaluates
        )
        filled = filled_in(self.kind, self._values())
        self._backup = PlacedBackup(self.reader, filled, self.sheet.placed, self.evaluates)
        self._sending = Sending(self._reached, self._backup, self.journal, self.offers)
        self._meeting = PeerMeeting(self._reached, self.see_peers, self.journal)

    def _model(self, step: SheetStep) -> StepModel:
        assert step.kind_step is not None
        if step.phase == "undo":
            return self.kind.undo_steps()[step.kind_step]
        if step.phase == "clear":
            return self.kind.clear_steps()[step.kind_step]
        return self.kind.steps()[step.kind_step][1]

    async def _carry_out(self, step: SheetStep) -> str:
        match step.do:
            case "safety":
                return await self._safety()
            case "look":
                await self._compare_with_sheet(await self._reached.look(self.sheet.parts))
                return ""
            case "remove":
                return await self._remove(step)
            case "proof":
                return await self._prove()
            case "gate":
                gate = self.sheet.gate_of("step", step.number)
                return f"{gate.answer} by {gate.by}" if gate else "nothing was left to do"
            case "command":
                return await self._commands(self._model(step), step)
            case "validate":
                return await self._validate(self._model(step))
            case "request":
                return await self._sending.request(self._model(step), step.names, self._values())
            case "write":
                return await self._write(self._model(step), step)
            case "upload":
                model = self._model(step)
                wanted = [(name, await self._document(model, name)) for name in step.names or [""]]
                return await self._sending.upload(model, wanted, self._values())
            case "offer":
                return await self._sending.offer(self._model(step), self._values())
            case "rejoin":
                model = self._model(step)
                went = await self._reached.see_it_go(model.gone_within)
                return await self._reached.rejoin(model.limit) + went
            case "check":
                return await self._check(self._model(step), step)
            case "agree":
                step.passed, said = await self._meeting.agree(self._model(step).within)
                return said
            case _:
                assert_never(step.do)

    async def _safety(self) -> str:
        """Take the safety copy, and check that the target still is as the person saw it."""
        taken = await self.take_safety(await self._reached.current())
        self.sheet.safety = taken.reference.backup
        await self._compare_with_sheet(
            Target(taken.head.machine, self.sheet.target, taken.documents, taken.head.census)
        )
        return f"backup {taken.reference.backup[:12]}, {taken.reference.sizes.documents} documents"

    async def _compare_with_sheet(self, target: Target) -> None:
        """Ask a person about facts that changed since the draft. Raises FarSideFailed if the target
        is no longer suitable.
        """
        sheet = self.sheet
        source = plan_inputs.RestoreSource(
            sheet.backup,
            sheet.system,
            sheet.system_name,
            await self._backup.head(),
            await self._backup.digests(sheet.parts),
            sheet.after.place.account,
            placed=sheet.placed,
            replica=sheet.replica,
        )
        away = [path for step in sheet.steps if step.do == "remove" for path in step.names]
        back = plan_steps.WayBack(sheet.returns, [], away) if sheet.returns is not None else None
        intent = planning.Intent(sheet.purpose, sheet.spare, sheet.new_name, back)
        now = planning.plan(self.kind, intent, source, target, sheet.parts, self._values())
        if blockers := now.blockers():
            raise FarSideFailed(f"The target has changed: {blockers[0].text}", blockers[0].remedy)
        changed = changed_facts.changed_facts(sheet, now)
        if changed:
            question = "Since the sheet was drafted, " + "; ".join(changed) + "."
            sheet.ask_anew("facts", None, question, ["accept"])
            sheet.facts = now.facts
            sheet.version += 1
        # its counts also change where the overwritten content does not
        sheet.overwrites = now.overwrites
        sheet.findings = changed_facts.counted_anew(sheet.findings, now.findings)
        sheet.fresh_census = target.census

    async def _commands(self, model: StepModel, step: SheetStep) -> str:
        await self._meeting.must_still_win(model)
        shell = await self._reached.shell()
        commands = plan_steps.commands_of(model, step.names, self._values())
        for words, name in zip(commands, step.names or [""], strict=True):
            await self.journal.check()
            fed = await self._document(model, name) if model.document is not None else None
            feed = self._backup.content(fed) if fed is not None else None
            output = await shell.run(words, feed=feed, limit=model.limit)
            if output.code not in model.codes:
                raise FarSideFailed(
                    f"{model.title}: {words[0]} ended with {output.code}:"
                    f" {printable(output.said())}",
                    "Look at the target, then continue with the sheet or draft a new one.",
                )
            if output.code != 0 or output.errors:
                said = printable(output.said())[:_SAID]
                await self.journal.log("info", f"{model.title}: {words[0]} said: {said}")
        return f"{len(commands)} done" if len(commands) > 1 else ""

    async def _remove(self, step: SheetStep) -> str:
        """Folders only if they are empty: somebody else may have put something there."""
        shell = await self._reached.shell()
        if shell.language != "posix":
            raise FarSideFailed(
                "Documents can be taken away only by a POSIX shell.", "Remove them by hand."
            )
        for start in range(0, len(step.names), _AT_ONCE):
            await self.journal.check()
            names = step.names[start : start + _AT_ONCE]
            output = await shell.run(["sh", "-c", _REMOVE, "sh", *names], limit=300)
            if output.code != 0:
                raise FarSideFailed(
                    f"{step.title}: {printable(output.said())}",
                    "Look at the target, then continue.",
                )
        return f"{len(step.names)} documents"

    async def _validate(self, model: StepModel) -> str:
        """The target's own programs validate the captured files in a temporary folder before any is
        restored.
        """
        shell = await self._reached.shell()
        async with extraction.scratch_folder(shell) as scratch:
            for name in model.parts:
                await self._extract(model, name, scratch)
            words = plan_steps.commands_of(model, [], {**self._values(), "scratch": scratch})[0]
            output = await shell.run(words, limit=model.limit)
        if output.code not in model.codes:
            said = printable(output.said())
            done = "; ".join(self.sheet.done_to_target())
            raise FarSideFailed(
                f"{model.title}: the target does not accept the files of the backup: {said}",
                f"{f'Done until now: {done}.' if done else 'Nothing was put back.'} Look at the"
                " target's programs and their versions.",
            )
        return "accepted"

    async def _write(self, model: StepModel, step: SheetStep) -> str:
        """Feed a tar stream into the target's tar; the reader verifies every chunk."""
        held = await self._backup.part(model.parts[0])
        paths = [document.path async for document in self._backup.documents(held)]
        lacking = await extraction.lacking_folders(await self._reached.shell(), paths)
        step.made = sorted({*step.made, *lacking})  # an attempt before may have made some
        await self.save(self.sheet)
        return await self._extract(model, model.parts[0], "/")

    async def _extract(self, model: StepModel, part: str, folder: str) -> str:
        """Says what was sent, and what the target says it read."""
        documents = [
            document async for document in self._backup.documents(await self._backup.part(part))
        ]
        output, sent = await extraction.extract(
            await self._reached.shell(),
            self._backup,
            documents,
            folder,
            self.journal,
            numbers=model.owners == "numbers",
            limit=max(model.limit, 3600),
        )
        if output.code != 0:
            raise FarSideFailed(
                f"{model.title}: tar ended with {output.code}:"
                f" {without_secrets(output.errors[:300])}",
                "Look at the target's free space and rights, then continue with the sheet.",
            )
        read = extraction.read_by_target(output.errors)
        if read is not None and read != extraction.as_read(sent):
            raise FarSideFailed(
                f"{model.title}: {sent} bytes were sent, but the target read {read}.",
                "Look at the target's free space, then continue with the sheet.",
            )
        seen = "all read by the target" if read is not None else "the target says no number"
        return f"{counted(len(documents), 'document')}: {size(sent)} sent, {seen}"

    async def _document(self, model: StepModel, name: str = "") -> Document:
        assert model.document is not None
        wanted = plan_steps.documents_of(model.document, name)
        async for document in self._backup.documents(await self._backup.part(model.parts[0])):
            if document.path in wanted:
                return document
        raise Damaged(
            f"The backup has no document {filled(model.document, {'name': name})}.",
            "Choose another backup.",
        )

    async def _check(self, model: StepModel, step: SheetStep) -> str:
        step.passed, detail = await self._look_until(model)
        return ("passed" if step.passed else "NOT passed") + (f": {detail}" if detail else "")

    async def _look_until(self, model: StepModel) -> tuple[bool, str]:
        """Whether it passes within the time it may take, and what was seen if not."""
        ends = anyio.current_time() + model.within
        passed, detail = await self._look(model)
        while not passed and anyio.current_time() < ends:
            await self.journal.check()
            await anyio.sleep(_PAUSE)
            passed, detail = await self._look(model)
        return passed, detail

    async def _look(self, model: StepModel) -> tuple[bool, str]:
        try:
            if model.run is not None:
                words = command(model.run, self._values())
                output = await (await self._reached.shell()).run(words, limit=model.limit)
                text = output.output.decode("utf-8", "replace")
                if output.code != 0:
                    return False, f"{words[0]} ended with {output.code}: {printable(output.said())}"
            else:
                assert model.request is not None
                path = filled(model.request.path, self._values())
                text = (
                    await (await self._reached.web()).request(model.request.method, path)
                ).body.decode("utf-8", "replace")
        except TryLater:
            raise
        except FennoxError as error:
            return False, error.what
        if model.expect is not None and not compiled(model.expect).fits(text):
            return False, "the answer is not what was expected"
        return True, ""

    async def _prove(self) -> str:
        after = await self._reached.look(self.sheet.parts)
        head = await self._backup.head()
        facts = (self.kind, self.sheet.parts, head, self.sheet.fresh_census, after.census)
        lists, theirs = proving.decided_lists(self.sheet.replica, *facts)
        lists += await self._written_documents(after)
        lists += proving.kept_documents(self.sheet, after.documents)
        left_out = [*proving.not_proved(self.kind, self.sheet.parts, head, lists), *theirs]
        lists, left_out = proving.chosen(self.sheet.placed.only, lists, left_out)
        checks = [*proving.checks_of(self.sheet), *proving.unread(self.kind, after.unread)]
        machine = proving.of_the_machine(*facts)
        proof = proving.prove(lists, left_out, checks, self.now(), machine)
        self.sheet.proof = proof
        self.sheet.target_machine = after.machine.id
        if proof.proved:
            return "all that was compared is there"
        missing = sum(len(item.missing) for item in proof.lists)
        return f"{missing} names missing; see the proof"

    async def _written_documents(self, after: Target) -> list[ListProof]:
        """Every document a part wrote, as it now is on the target."""
        names = {name for _, step in self.kind.steps() if step.do == "write" for name in step.parts}
        held = await self._backup.digests([part for part in self.sheet.parts if part in names])
        return [
            proving.compare_documents(part, documents, after.documents.get(part, {}))
            for part, documents in held.items()
        ]

    def _values(self) -> dict[str, str]:
        decided = replicating.placeholders(self.sheet.replica)
        return {**values_of(self.kind, self.settings), **decided}
