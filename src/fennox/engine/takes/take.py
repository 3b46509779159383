"""Taking a backup: read the system, store what is new, write the record last."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from fennox.core.errors import FennoxError
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.format import records
from fennox.core.format.manifest import Machine
from fennox.engine.backups.backup_reader import digest_of
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.confirmation import PacksGone
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import Journal
from fennox.engine.processes.carver_pool import Carvers
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading import machine_clock
from fennox.engine.reading.capture import Capture, identify
from fennox.engine.reading.file_stamps import stored_part, trusted
from fennox.engine.reading.inquiry import Inquiry, inquiring
from fennox.engine.takes.document_intake import gather
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
    check_same_machine,
)
from fennox.engine.takes.unchanged_machine import likeness, rely_on_before
from fennox.links.base import Link, Shell

_LISTED_WITHIN = (
    60  # seconds: a thousand takes of one night do not each list every pack of the store
)
_MOST_SAID = 100  # lines of what commands said that go into a run's log


async def take(
    vault: Vault,
    index: PackIndex,
    link: Link | None,
    subject: Subject,
    order: TakeRequest,
    journal: Journal,
    evaluates: Evaluates,
    *,
    any_machine: bool,
    handed_in: HandedInDocuments | None = None,
    carvers: Carvers | None = None,
) -> Taken:
    """Take one backup. ``any_machine``: the machine may have another id (a safety copy of a fresh
    target).

    ``handed_in`` is what a person gave; nothing is then read from the machine, and there need be no
    link. ``carvers`` help with long takes.
    """
    parts = parts_to_take(subject.kind, order.parts)
    taking = _Taking(vault, index, link, subject, order, journal, evaluates, handed_in, parts)
    existing = await already_there(vault, index, order)
    if existing is not None:
        await journal.log(
            "info", "The record of an earlier attempt is in the store; the backup is complete."
        )
        return existing
    try:
        return await _taken(taking, carvers, any_machine=any_machine)
    except PacksGone as error:
        await journal.log("warning", f"{error.what} Everything is read and written anew.")
    taking.order = replace(order, trust=False)
    return await _taken(taking, carvers, any_machine=any_machine)


async def _taken(taking: _Taking, carvers: Carvers | None, *, any_machine: bool) -> Taken:
    vault, index, subject, order, journal = (
        taking.vault,
        taking.index,
        taking.subject,
        taking.order,
        taking.journal,
    )
    found = await taking.as_before()
    if found is None:
        found = await taking.read(carvers, any_machine=any_machine)
    writer = found.writer
    id_list, sealed = await seal_head(found, order)
    await journal.step("Write the record")
    if writer.relies_on(await vault.condemned(index.swept)):
        raise PacksGone(
            "A sweep condemned packs that this backup relies on.", "Take the backup again."
        )
    reference = reference_of_take(vault, subject, order, found, writer.written, id_list, sealed)
    begun = vault.now()
    data = await writer.commit(reference, sealed, journal.check)
    ahead = await _far_side_ahead(vault, reference, begun) if order.measure else None
    digest = records.decode(data, vault.secret, vault.id).digest
    return Taken(
        reference,
        digest,
        found.head,
        writer.written,
        found.documents,
        found.plain,
        found.before is not None,
        found.likeness,
        found.skew,
        ahead,
    )


async def _far_side_ahead(
    vault: Vault, reference: records.Reference, begun: datetime
) -> float | None:
    """Seconds that the store's clock is ahead of ours, by the record that was just put there; None:
    it does not tell.

    ``begun``: when it was about to be put. Whole seconds are all that some far sides tell.
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
    """Finds out what a backup is to hold. ``parts``: their names."""

    vault: Vault
    index: PackIndex
    link: Link | None
    subject: Subject
    order: TakeRequest
    journal: Journal
    evaluates: Evaluates
    handed_in: HandedInDocuments | None
    parts: list[str]

    async def as_before(self) -> FoundContent | None:
        """What the machine holds if it answers as it did for the backup before; None: it must be
        read.
        """
        order, link, kind = self.order, self.link, self.subject.kind
        if link is None or self.handed_in is not None or not order.trust or not order.likeness:
            return None
        if order.previous is None or order.before is None:
            return None
        await self.journal.step("Ask the machine whether anything has changed")
        asking = inquiring(
            link,
            kind,
            self.subject.settings,
            self.parts,
            stamps=True,
            now=self.vault.now,
            likely=True,
        )
        async with asking as inquiry:
            await inquiry.read()
            machine = self.subject.machine_id
            if likeness(self.vault, self.subject, machine, self.parts, inquiry) != order.likeness:
                return None
            writer = await self._writer()
            before = await rely_on_before(
                self.vault, self.index, writer, order.previous, order.before
            )
            if before is None:
                return None
            skew = await self._skew(link, inquiry)
        sizes, since = before.reference.sizes, before.reference.read_whole or ""
        text = (
            f"It answers as it did for the backup before, so all {sizes.documents} documents are as"
            " they were; all "
        )
        await self.journal.log("info", f"{text}were last read on {day_of(since)}.")
        await self.journal.progress(documents=sizes.documents, bytes=sizes.bytes)
        head = before.head.model_copy(
            update={"reached": self.subject.reached, "routine": order.routine}
        )
        return FoundContent(
            writer, head, sizes.documents, sizes.bytes, since, {}, {}, before, order.likeness, skew
        )

    async def read(self, carvers: Carvers | None, *, any_machine: bool) -> FoundContent:
        """What the machine holds, or a person has given, read and stored; then its manifest."""
        order, subject = self.order, self.subject
        asked = (
            self.link if self.handed_in is None else None
        )  # what a person gave is not asked of the machine
        asking = inquiring(
            asked,
            subject.kind,
            subject.settings,
            self.parts,
            stamps=order.trust,
            now=self.vault.now,
        )
        async with asking as inquiry:
            machine = await self._who(inquiry)
            if not any_machine:
                check_same_machine(subject, machine)
            writer = await self._writer()
            now = (
                likeness(self.vault, subject, machine.id, self.parts, inquiry)
                if order.trust
                else ""
            )
            found = await self._documents(writer, inquiry, machine, now, carvers)
            return found if asked is None else replace(found, skew=await self._skew(asked, inquiry))

    async def _who(self, inquiry: Inquiry) -> Machine:
        if self.handed_in is not None:
            return self.handed_in.machine
        assert self.link is not None
        await self.journal.step("Ask the machine who it is, and what it holds")
        kind = self.subject.kind
        if not isinstance(self.link, Shell) or kind.identity.ask:
            return await identify(kind, self.link, self.subject.settings)
        await inquiry.read()
        return inquiry.machine(kind)

    async def _writer(self) -> BackupWriter:
        """What has been condemned since the packs were listed is looked at before the record is
        written.

        A routine's take is then tried again by itself; a person, who would have to do that, has it
        looked at here too.
        """
        await self.journal.step("Look at what the store already holds")
        index = self.index
        await index.refresh(self.vault, not_older=_LISTED_WITHIN)
        condemned = index.condemned if self.order.trust else await self.vault.condemned(index.swept)
        return BackupWriter(self.vault, index, condemned)

    async def _skew(self, link: Link, inquiry: Inquiry) -> float | None:
        """A backup is no worse for it, so that what goes wrong here is only told."""
        try:
            return await machine_clock.skew(
                self.subject.kind, link, self.subject.settings, self.vault.now, inquiry
            )
        except FennoxError as error:
            await self.journal.log("warning", f"The machine's clock was not read: {error}")
            return None

    async def _documents(
        self,
        writer: BackupWriter,
        inquiry: Inquiry,
        machine: Machine,
        likeness: str,
        carvers: Carvers | None,
    ) -> FoundContent:
        """``likeness``: how the machine answered."""
        subject, order, journal = self.subject, self.order, self.journal
        trust = None
        if order.trust:
            trust = await trusted(
                self.vault, self.index, writer.condemned, order.previous, subject, machine.id
            )
        await journal.step("Read and store the documents")
        given = self.handed_in.documents if self.handed_in is not None else {}
        capture = Capture(subject.kind, subject.settings, machine, handed_in=given, trust=trust)
        gathered = await gather(
            writer,
            self.link,
            capture,
            self.parts,
            journal,
            inquiry,
            apart=order.apart,
            carvers=carvers,
        )
        if capture.taken_over and trust is not None:
            text = (
                f"{capture.taken_over} of {gathered.count} documents have the inode, size and times"
                " they had; all "
            )
            await journal.log("info", f"{text}were last read on {day_of(trust.since)}.")
        for said in capture.said[:_MOST_SAID]:
            known = f" (expected: {said.expected})" if said.expected else ""
            await journal.log(
                "expected" if said.expected else "warning",
                f"{said.command} said: {said.line}{known}",
            )
        await journal.step("Store the manifest")
        stored = [
            await stored_part(
                writer,
                trust,
                name,
                subject.kind.part_named(name).title,
                marked(gathered.of(name), capture.moved),
            )
            for name in self.parts
        ]
        still = (
            capture.trust is trust and not capture.moved
        )  # else something changed between the look and the reading
        return FoundContent(
            writer,
            head_of_take(
                subject, order, capture, stored, await capture.told(self.parts, self.evaluates)
            ),
            gathered.count,
            gathered.bytes,
            trust.since if trust is not None and capture.taken_over else order.time,
            {
                part: {d.path: digest_of(d) for d in gathered.of(part)}
                for part in gathered.documents
            },
            await plain_of(
                capture,
                {name: gathered.of(name) for name in self.parts},
                self.evaluates,
                with_secrets=not order.apart,
            ),
            None,
            likeness if still else "",
            None,
        )
