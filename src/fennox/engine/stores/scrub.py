"""Reading every byte of a store to find damaged, lost, foreign or outdated objects. A scrub needs
no opening key: packs are checked against the digest in their name, everything else against its MAC
or seal. Damage is traced from the object to the backups that need it and, with the opening key, to
their documents.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass

from fennox.core.errors import Damaged, FennoxError, NotFound, StoreUnusable
from fennox.core.format import header as headers
from fennox.core.format import packs, records, sweeps
from fennox.core.format.anchors import Anchors, Loss, Present, losses
from fennox.engine.backups.record_lists import raise_unless_damage
from fennox.engine.backups.vault import README_NAME, RESCUE_NAME, Vault
from fennox.engine.journal import Journal
from fennox.engine.stores.copy_backup import Holding
from fennox.engine.stores.faults import Fault, Gap, Report, blamed, in_place_of, lost_chunks
from fennox.engine.stores.object_checks import check_object
from fennox.stores.base import FoundObject


@dataclass(frozen=True)
class Share:
    """A share of the packs, chosen by digest so that no state is needed: the ``number``-th of
    ``of``.
    """

    number: int
    of: int

    def holds(self, pack: str) -> bool:
        return int(packs.digest_in_name(pack)[:8], 16) % self.of == self.number

    def reads(self, name: str) -> bool:
        try:
            return self.holds(name)
        except ValueError:
            return True  # not one of our names


ALL = Share(0, 1)


async def scrub(
    holding: Holding,
    expected: Collection[str],
    journal: Journal,
    *,
    share: Share = ALL,
    known: Mapping[str, str] | None = None,
    told: Collection[Anchors] = (),
) -> Report:
    """Read and check every object, then every backup's list of chunks. ``expected``: backups that
    must exist. Only packs in the ``share`` are read; ``known``: damage found earlier in the others.
    ``told``: anchors kept elsewhere.
    """
    vault, report = holding.vault, Report()
    await journal.step("List what is there")
    listed = [found async for found in vault.store.list("")]
    holding.index.damaged.clear()
    await holding.index.refresh(vault)
    await journal.step("Read and check every object")
    removed = await _check_objects(holding, listed, report, journal, share, known or {})
    report.faults += _absent(vault, report, {found.name for found in listed})
    report.missing = await _missing(vault, set(expected) - report.records.keys())
    for backup in report.missing:
        report.faults.append(Fault(in_place_of(backup), "Its record is not there, or not sound."))
        report.costs[in_place_of(backup)] = {backup}
    await journal.step("Compare every backup with the packs")
    await _hold_against_packs(holding, report)
    report.gaps = _gaps(list(report.records.values()), removed)
    report.losses = _losses(vault, report, told, removed)
    return report


async def _check_objects(
    holding: Holding,
    listed: list[FoundObject],
    report: Report,
    journal: Journal,
    share: Share,
    known: Mapping[str, str],
) -> list[sweeps.Sweep]:
    """Returns the removals recorded in sweep lists."""
    names = {found.name for found in listed}
    removed: list[sweeps.Sweep] = []
    condemned = await holding.vault.condemned()
    for found in sorted(listed, key=lambda item: item.name):
        await journal.check()
        if found.name.startswith("packs/") and not share.reads(found.name):
            report.passed_over += 1
            if found.name in known:
                report.faults.append(Fault(found.name, known[found.name]))
                holding.index.mark_damaged(found.name, known[found.name])
            continue
        try:
            size = await check_object(holding, found, report, removed, names)
        except NotFound:
            # removed since the listing; the check of the backups shows whether it is needed
            continue
        except (Damaged, StoreUnusable) as error:
            await raise_unless_damage(holding.vault, error)
            # a condemned pack will be removed anyway: not reported, but not to be read
            if packs.digest_in_name(found.name) not in condemned:
                report.faults.append(Fault(found.name, _told(error, found.name)))
            if found.name.startswith("packs/"):
                holding.index.mark_damaged(found.name, error.what)
            size = found.size
        report.objects += 1
        report.size += size
        await journal.progress(documents=report.objects, bytes=report.size)
    return removed


def _absent(vault: Vault, report: Report, names: set[str]) -> Iterator[Fault]:
    """Objects every store must have, and headers of every key generation in use."""
    for name in (README_NAME, RESCUE_NAME):
        if name not in names:
            yield Fault(name, f"{name} is gone.")
    if not any(name.startswith("header/") for name in names):
        yield Fault("header/", "Every header is gone.")
    elif headers.name(vault.header) not in names:
        yield Fault(headers.name(vault.header), "The newest header is gone.")
    for generation in sorted({record.reference.generation for record in report.records.values()}):
        prefix = f"header/{generation}."
        if not any(name.startswith(prefix) for name in names):
            yield Fault(prefix, f"Every header of key generation {generation} is gone.")


async def _hold_against_packs(holding: Holding, report: Report) -> None:
    """Backups that lack chunks, and the objects responsible."""
    for backup, record in report.records.items():
        if missing := await lost_chunks(holding, record):
            report.lost[backup] = missing
    if report.lost:  # a take that ended meanwhile stored its packs after the listing
        await holding.index.refresh(holding.vault)
        again = {
            backup: await lost_chunks(holding, report.records[backup]) for backup in report.lost
        }
        report.lost = {backup: missing for backup, missing in again.items() if missing}
    named = {fault.object for fault in report.faults}
    for backup, missing in report.lost.items():
        for fault in blamed(holding.index, missing):
            report.costs.setdefault(fault.object, set()).add(backup)
            if fault.object not in named:
                named.add(fault.object)
                report.faults.append(fault)


def _losses(
    vault: Vault, report: Report, told: Collection[Anchors], removed: list[sweeps.Sweep]
) -> list[Loss]:
    """The newest anchor counts. Unsound records count as damage, not as loss."""
    if not told:
        return []
    for record in report.records.values():
        here = report.present.setdefault(record.reference.system, Present())
        here.numbers.add(record.reference.sequence)
        here.records.add(vault.record_name(record.reference))
    newest = max(told, key=lambda one: one.time)
    return losses(newest, report.present, removed, vault.header.generation)


async def _missing(vault: Vault, absent: set[str]) -> list[str]:
    """Missing backups without those a sweep has removed meanwhile."""
    if not absent:
        return []
    swept = sweeps.swept_backups(await vault.sweep_lists(whole=False))
    return sorted(backup for backup in absent if backup[:8] not in swept)


def _told(error: FennoxError, name: str) -> str:
    """The error without the object's name, which is shown beside it."""
    text = error.what.removeprefix(name).lstrip()
    return text[:1].upper() + text[1:]


def _gaps(found: list[records.Record], removed: list[sweeps.Sweep]) -> list[Gap]:
    """Sequence numbers of a system missing without a sweep (§9.5)."""
    known: dict[str, set[int]] = {}
    names: dict[str, str] = {}
    for record in found:
        reference = record.reference
        known.setdefault(reference.system, set()).add(reference.sequence)
        names[reference.system] = reference.system_name
    for sweep in removed:
        for item in sweep.removed:
            if item.system in known:
                known[item.system].add(item.sequence)
    missing = {
        system: sorted(set(range(1, max(numbers))) - numbers)
        for system, numbers in sorted(known.items())
    }
    return [Gap(system, names[system], numbers) for system, numbers in missing.items() if numbers]
