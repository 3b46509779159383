"""Taking a backup: read the system, store what is new, write the record last."""

from __future__ import annotations

from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, replace
from datetime import datetime

from fennox.core.errors import FennoxError
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.format import records
from fennox.core.format.manifest import Head, Machine
from fennox.engine.backups.backup_reader import digest_of
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.confirmation import PacksGone
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Level
from fennox.engine.reading import machine_clock
from fennox.engine.reading.capture import Capture, identify
from fennox.engine.reading.file_stamps import Trust, stored_part, trusted
from fennox.engine.reading.inquiry import Inquiry, inquiring
from fennox.engine.takes.document_intake import Gathered, gather
from fennox.engine.takes.look import plain_of
from fennox.engine.takes.record_of_take import (
    already_there,
    day_of,
    head_of_take,
    marked,
    reference_of_take,
    seal_head,
)
from fennox.engine.takes.take_order import (
    FoundContent,
    HandedInDocuments,
    Subject,
    Taken,
    TakeRequest,
    TakeTools,
    check_same_machine,
)
from fennox.engine.takes.unchanged_machine import Before, likeness, rely_on_before
from fennox.links.base import Link, Shell

_LISTED_WITHIN = 60  # seconds; avoids that a thousand takes of one night each list all packs
_MOST_SAID = 100  # lines of command output for a run's log


async def take(
    tools: TakeTools,
    link: Link | None,
    subject: Subject,
    order: TakeRequest,
    *,
    any_machine: bool,
    handed_in: HandedInDocuments | None = None,
) -> Taken:
    """Take one backup. ``any_machine``: allow another machine id (a safety copy of a fresh target).
    ``handed_in``: documents from a person; nothing is then read from the machine, and no link is
    needed.
    """
    parts = parts_to_take(subject.kind, order.parts)
    taking = _Taking(tools, link, subject, order, handed_in, parts)
    existing = await already_there(tools.vault, tools.index, order)
    if existing is not None:
        await tools.journal.log(
            "info", "The record of an earlier attempt is in the store; the backup is complete."
        )
        return existing
    try:
        return await _taken(taking, any_machine=any_machine)
    except PacksGone as error:
        await tools.journal.log("warning", f"{error.what} Everything is read and written again.")
    taking.order = replace(order, trust=False)
    return await _taken(taking, any_machine=any_machine)


async def _taken(taking: _Taking, *, any_machine: bool) -> Taken:
    tools, order = taking.tools, taking.order
    vault = tools.vault
    found = await taking.as_before()
    if found is None:
        found = await taking.read(any_machine=any_machine)
    writer = found.writer
    id_list, sealed = await seal_head(found, order)
    await tools.journal.step("Write the record")
    if writer.relies_on(await vault.condemned(tools.index.swept)):
        raise PacksGone(
            "A sweep condemned packs that this backup relies on.", "Take the backup again."
        )
    reference = reference_of_take(
        vault, taking.subject, order, found, writer.written, id_list, sealed
    )
    begun = vault.now()
    data = await writer.commit(reference, sealed, tools.journal.check)
    return Taken(
        reference=reference,
        digest=records.decode(data, vault.secret, vault.id).digest,
        head=found.head,
        written=writer.written,
        documents=found.documents,
        plain=found.plain,
        as_before=found.before is not None,
        likeness=found.likeness,
        skew=found.skew,
        store_ahead=await _far_side_ahead(vault, reference, begun) if order.measure else None,
    )


async def _far_side_ahead(
    vault: Vault, reference: records.Reference, begun: datetime
) -> float | None:
    """Seconds the store's clock is ahead of ours, from the record just stored; None: it reports no
    time. ``begun``: just before storing it. Some far sides report whole seconds only.
    """
    there = await vault.store.stat(vault.record_name(reference))
    if there is None or there.modified is None:
        return None
    early, late = (
        (begun - there.modified).total_seconds(),
        (there.modified - vault.now()).total_seconds(),
    )
    return late if late > 1 else -early if early > 1 else 0.0


@dataclass
class _Taking:
    """Determines the content of a backup. ``parts``: their names."""

    tools: TakeTools
    link: Link | None
    subject: Subject
    order: TakeRequest
    handed_in: HandedInDocuments | None
    parts: list[str]

    async def as_before(self) -> FoundContent | None:
        """The content, if the machine answers as for the previous backup; None: it must be read."""
        order, link, vault = self.order, self.link, self.tools.vault
        if link is None or self.handed_in is not None or not order.trust or not order.likeness:
            return None
        if order.previous is None or order.before is None:
            return None
        await self.tools.journal.step("Ask the machine whether anything has changed")
        async with self._inquiring(link, stamps=True, likely=True) as inquiry:
            await inquiry.read()
            machine = self.subject.machine_id
            if likeness(vault, self.subject, machine, self.parts, inquiry) != order.likeness:
                return None
            writer = await self._writer()
            before = await rely_on_before(
                vault, self.tools.index, writer, order.previous, order.before
            )
            if before is None:
                return None
            skew = await self._skew(link, inquiry)
        return await self._unchanged(writer, before, skew)

    async def _unchanged(
        self, writer: BackupWriter, before: Before, skew: float | None
    ) -> FoundContent:
        sizes, since = before.reference.sizes, before.reference.read_whole or ""
        await self.tools.journal.log(
            "info",
            f"The machine answers as it did for the previous backup: all {sizes.documents}"
            f" documents are unchanged. They were last read in full on {day_of(since)}.",
        )
        await self.tools.journal.progress(documents=sizes.documents, bytes=sizes.bytes)
        reached = {"reached": self.subject.reached, "routine": self.order.routine}
        return FoundContent(
            writer=writer,
            head=before.head.model_copy(update=reached),
            count=sizes.documents,
            bytes=sizes.bytes,
            read_whole=since,
            documents={},
            plain={},
            before=before,
            likeness=self.order.likeness,
            skew=skew,
        )

    def _inquiring(
        self, link: Link | None, *, stamps: bool, likely: bool = False
    ) -> AbstractAsyncContextManager[Inquiry]:
        return inquiring(
            link,
            self.subject.kind,
            self.subject.settings,
            self.parts,
            stamps=stamps,
            now=self.tools.vault.now,
            likely=likely,
        )

    async def read(self, *, any_machine: bool) -> FoundContent:
        """Read and store the machine's or the handed-in documents, then the manifest."""
        order, subject = self.order, self.subject
        # handed-in documents are not read from the machine
        asked = self.link if self.handed_in is None else None
        async with self._inquiring(asked, stamps=order.trust) as inquiry:
            machine = await self._who(inquiry)
            if not any_machine:
                check_same_machine(subject, machine)
            writer = await self._writer()
            now = (
                likeness(self.tools.vault, subject, machine.id, self.parts, inquiry)
                if order.trust
                else ""
            )
            found = await self._documents(writer, inquiry, machine, now)
            return found if asked is None else replace(found, skew=await self._skew(asked, inquiry))

    async def _who(self, inquiry: Inquiry) -> Machine:
        if self.handed_in is not None:
            return self.handed_in.machine
        assert self.link is not None
        await self.tools.journal.step("Ask the machine who it is, and what it holds")
        kind = self.subject.kind
        if not isinstance(self.link, Shell) or kind.identity.ask:
            return await identify(kind, self.link, self.subject.settings)
        await inquiry.read()
        return inquiry.machine(kind)

    async def _writer(self) -> BackupWriter:
        """Packs condemned since the listing are also detected before the record is written, and a
        routine's take then retries by itself. A person would have to retry, so for a person it is
        checked here too.
        """
        vault, index = self.tools.vault, self.tools.index
        await self.tools.journal.step("Look at what the store already holds")
        await index.refresh(vault, not_older=_LISTED_WITHIN)
        condemned = index.condemned if self.order.trust else await vault.condemned(index.swept)
        return BackupWriter(vault, index, condemned)

    async def _skew(self, link: Link, inquiry: Inquiry) -> float | None:
        """A wrong clock does not make a backup worse, so a failure here is only logged."""
        try:
            return await machine_clock.skew(
                self.subject.kind, link, self.subject.settings, self.tools.vault.now, inquiry
            )
        except FennoxError as error:
            await self.tools.journal.log("warning", f"The machine's clock was not read: {error}")
            return None

    async def _documents(
        self, writer: BackupWriter, inquiry: Inquiry, machine: Machine, likeness: str
    ) -> FoundContent:
        """``likeness``: digest of the machine's answers."""
        subject, order, tools = self.subject, self.order, self.tools
        trust = None
        if order.trust:
            trust = await trusted(
                tools.vault, tools.index, writer.condemned, order.previous, subject, machine.id
            )
        await tools.journal.step("Read and store the documents")
        given = self.handed_in.documents if self.handed_in is not None else {}
        capture = Capture(
            subject.kind, subject.settings, machine, handed_in=given, drop=tools.drop, trust=trust
        )
        gathered = await gather(
            writer,
            self.link,
            capture,
            self.parts,
            tools.journal,
            inquiry,
            apart=order.apart,
            carvers=tools.carvers,
        )
        await self._log_reading(capture, gathered.count, trust)
        head = await self._manifest(writer, capture, gathered, trust)
        # otherwise something changed between the survey and the reading
        still = capture.trust is trust and not capture.moved
        return FoundContent(
            writer=writer,
            head=head,
            count=gathered.count,
            bytes=gathered.bytes,
            read_whole=trust.since if trust and capture.taken_over else order.time,
            documents={
                part: {d.path: digest_of(d) for d in gathered.of(part)}
                for part in gathered.documents
            },
            plain=await plain_of(
                capture,
                {name: gathered.of(name) for name in self.parts},
                tools.evaluates,
                with_secrets=not order.apart,
            ),
            before=None,
            likeness=likeness if still else "",
            skew=None,
        )

    async def _manifest(
        self, writer: BackupWriter, capture: Capture, gathered: Gathered, trust: Trust | None
    ) -> Head:
        await self.tools.journal.step("Store the manifest")
        kind = self.subject.kind
        stored = [
            await stored_part(
                writer,
                trust,
                name,
                kind.part_named(name).title,
                marked(gathered.of(name), capture.moved),
            )
            for name in self.parts
        ]
        told = await capture.told(self.parts, self.tools.evaluates)
        return head_of_take(self.subject, self.order, capture, stored, told)

    async def _log_reading(self, capture: Capture, count: int, trust: Trust | None) -> None:
        """Log what was reused from the previous backup, and what commands printed."""
        journal = self.tools.journal
        if capture.taken_over and trust is not None:
            await journal.log(
                "info",
                f"{capture.taken_over} of {count} documents have the same inode, size and times as"
                f" before. All were last read in full on {day_of(trust.since)}.",
            )
        for said in capture.said[:_MOST_SAID]:
            known = f" (expected: {said.expected})" if said.expected else ""
            level: Level = "expected" if said.expected else "warning"
            await journal.log(level, f"{said.command} said: {said.line}{known}")
