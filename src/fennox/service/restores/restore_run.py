"""Drafting and doing restores as runs."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, replace

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Backup, Login, Run, SheetRow, StoreRow, System
from fennox.core.errors import MendSettings
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.facts.run_orders import Aim, DraftOrder, of_kind
from fennox.core.facts.run_results import DraftResult, RestoreResult, UndoResult
from fennox.core.format import notes
from fennox.core.format.manifest import Finding, Reached
from fennox.core.kinds.model import Kind
from fennox.core.restoring import planning
from fennox.core.restoring.sheet import Place, Sheet
from fennox.core.time import stamp
from fennox.engine.backups.backup_reader import BackupReader, backup_digests
from fennox.engine.journal import Journal
from fennox.engine.reading.capture import values_of
from fennox.engine.restoring.restore import RestoreUnderWay
from fennox.engine.restoring.targets import WhoseLogin, look_at_target
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Link
from fennox.service.backups.copies import best_copy
from fennox.service.keys import passphrase_relay
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import way_to
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.systems import old_machine
from fennox.service.takes.take_run import subject_of, take_safety_copy
from fennox.stores.whole import WholeObjects

_LOGIN_AFTER = (
    "the login was changed after the backup was taken; the password valid then may be needed"
)


@dataclass
class _Material:
    """What both drafting and doing need."""

    system: System
    backup: Backup
    store: StoreRow
    login: Login
    target_login: Login
    reader: BackupReader


async def _material(
    context: Context, lease: Lease, journal: Journal, backup_id: str, login_id: str
) -> _Material:
    async with context.session() as session:
        run = await queue.owned(session, lease)
        system = await session.get_one(System, run.system_id)
        backup = await session.get_one(Backup, backup_id)
        login = await session.get_one(Login, system.login_id)
        target_login = await session.get_one(Login, login_id)
    store, vault, record = await best_copy(context, backup)
    if vault.locked:
        vault.unlock(await passphrase_relay.wait_for_key(context, lease, store, journal))
    index = context.index(store.id)
    await index.refresh(vault)
    vault.store = WholeObjects(vault.store)
    reader = BackupReader(vault, index, record)
    return _Material(system, backup, store, login, target_login, reader)


def _standing(material: _Material) -> list[Finding]:
    """Findings about the backup and its login that only the catalogue knows."""
    found = []
    backup = material.backup
    if backup.doubtful:
        found.append(
            Finding(
                severity="warning",
                code="doubtful",
                text="The backup is doubtful.",
                remedy="Look at it before you rely on it.",
            )
        )
    if backup.partial:
        found.append(
            Finding(
                severity="warning",
                code="partial",
                text="The backup does not hold all essential parts.",
            )
        )
    if material.login.changed > backup.time:
        found.append(
            Finding(
                severity="warning",
                code="login-changed",
                text=f"For {material.login.name} {_LOGIN_AFTER}.",
            )
        )
    return found


async def run_draft(context: Context, lease: Lease, journal: Journal) -> None:
    """Look at backup and target, change nothing, and write the sheet."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        order = of_kind(run.order, DraftOrder)
        by = run.by
    material = await _material(context, lease, journal, order.backup, order.target.login)
    system = material.system
    kind, _ = context.kind(system.kind)
    parts = parts_to_take(kind, order.parts)
    place = Place(
        address=order.target.address, account=material.target_login.account, key=order.target.key
    )
    await journal.step(f"Look at the target at {place.address}")
    link = await context.connect(
        kind, login_uses.of_sheet(place, material.target_login), way_to(system)
    )
    try:
        target = await look_at_target(
            kind, link, place, dict(system.settings), parts, context.readings
        )
    finally:
        await link.close()
    await journal.step("Compare it with the backup and write the run sheet")
    async with context.session() as session:
        standing = await login_uses.another_system(session, system, target.machine.id)
    source = planning.RestoreSource(
        backup=material.backup.id,
        system=system.id,
        system_name=system.name,
        head=await material.reader.head(),
        documents=await backup_digests(material.reader, parts),
        login_account=material.login.account,
        address=system.address,
        taken=material.backup.time,
        standing=standing
        + _standing(material)
        + await old_machine.look(context, system, material.login, place.address),
    )
    entrance = await _checked_entrance(context, kind, system, order.entrance)
    sheet = planning.plan(
        kind, source, target, parts, values_of(kind, dict(system.settings)), entrance
    )
    sheet.seen_login = _said_of(material.target_login)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = SheetRow(
            id=secrets.token_hex(16),
            system_id=system.id,
            backup_id=material.backup.id,
            target_login_id=material.target_login.id,
            entrance_login_id=(
                order.entrance.login
                if entrance is not None and order.entrance is not None
                else None
            ),
            state=sheet.state,
            data=sheet,
            version=sheet.version,
            created=context.now(),
            by=by,
        )
        session.add(row)
        await session.flush()
        run.sheet_id = row.id
        run.result = DraftResult(sheet=row.id, blockers=len(sheet.blockers()))
        await queue.end(session, run, "done", context.now())


async def _checked_entrance(
    context: Context, kind: Kind, system: System, wanted: Aim | None
) -> Place | None:
    """The entrance that the steps will take; that it lets the login in is seen before anything is
    begun.
    """
    entrance = kind.restore.entrance if kind.restore is not None else None
    if entrance is None or wanted is None:
        return None
    async with context.session() as session:
        login = await session.get_one(Login, wanted.login)
    place = Place(address=wanted.address, account=login.account, key=wanted.key)
    link = await context.connect(entrance, login_uses.of_sheet(place, login), way_to(system))
    await link.close()
    return place


async def run_restore(context: Context, lease: Lease, journal: Journal) -> None:
    """Do exactly what the sheet says; wait where it needs a person."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(SheetRow, run.sheet_id)
        sheet = row.data
    material = await _material(context, lease, journal, row.backup_id, row.target_login_id)
    system, store = material.system, material.store
    kind, _ = context.kind(system.kind)
    if kind.version != sheet.kind_version:
        await _undo_by(kind, sheet, material)

    async def connect(place: Place, whose: WhoseLogin) -> Link:
        if whose == "entrance":
            assert kind.restore is not None
            assert kind.restore.entrance is not None
            async with context.session() as session:
                login = await session.get_one(Login, row.entrance_login_id)
            return await context.connect(
                kind.restore.entrance, login_uses.of_sheet(place, login), way_to(system)
            )
        login = material.target_login if whose == "target" else material.login
        return await context.connect(kind, login_uses.of_sheet(place, login), way_to(system))

    async def save(changed: Sheet) -> None:
        async with context.session() as session:
            await queue.owned(session, lease)
            await _store_sheet(session, row.id, changed)

    async def take_safety(link: Link) -> Taken:
        async with context.session() as session:
            subject = await subject_of(context, session, await session.get_one(System, system.id))
        target = sheet.target
        reached = Reached(address=target.address, account=target.account, key=target.key)
        vault = material.reader.vault
        return await take_safety_copy(
            context, lease, link, replace(subject, reached=reached), store, vault, journal
        )

    if not sheet.begun() and not sheet.giving_up:
        old = await old_machine.look(context, system, material.login, sheet.target.address)
        changed = [*old_machine.seen_anew(sheet, old), *_changed_since(sheet, kind, material)]
        if changed:
            question = f"Since the sheet was drafted this has changed. {' '.join(changed)}"
            sheet.ask_anew("facts", None, question, ["accept"])
    restore = RestoreUnderWay(
        sheet=sheet,
        kind=kind,
        reader=material.reader,
        settings=dict(sheet.settings) or dict(system.settings),
        journal=journal,
        now=context.now,
        connect=connect,
        evaluates=context.readings,
        save=save,
        take_safety=take_safety,
    )
    done = await restore.go_on()
    await _close_run(context, lease, row.id, done, material)


async def _undo_by(kind: Kind, sheet: Sheet, material: _Material) -> None:
    """Have a person agree to how it is undone by the kind as it is now; a restore is only done as
    it was drafted.

    Raises ``MendSettings`` where it is not being given up.
    """
    versions = (
        f"was version {sheet.kind_version} when the sheet was drafted and is version"
        f" {kind.version} now"
    )
    if not sheet.giving_up:
        undo = (
            "What this one has begun is undone by: fennox restore undo. " if sheet.begun() else ""
        )
        raise MendSettings(f"The kind {kind.name} {versions}.", f"{undo}Draft the restore again.")
    sheet.undo = planning.undo_anew(kind, await material.reader.head(), sheet)
    sheet.kind_version = kind.version
    titles = "; ".join(
        f"{step.title}: {' && '.join(step.commands)}"
        for step in sheet.to_undo()
        if step.state != "done"
    )
    question = f"The kind {kind.name} {versions}. What is undone is now: {titles or 'nothing'}."
    sheet.ask_anew("undo", None, question, ["accept"])


def _said_of(login: Login) -> str:
    return f"{login.name} ({login.account}), set {login.changed:%Y-%m-%d %H:%M:%S} UTC"


def _changed_since(sheet: Sheet, kind: Kind, material: _Material) -> list[str]:
    """What is not what the sheet shows: the system's settings, instead of which the sheet's are
    used, and the login.
    """
    settings, login = (
        values_of(kind, dict(material.system.settings)),
        _said_of(material.target_login),
    )
    said = []
    if sheet.settings and (changed := planning.changed_settings(sheet.seen_settings, settings)):
        said.append(f"Of the system {'; '.join(changed)}; the restore uses what the sheet shows.")
    if sheet.seen_login and sheet.seen_login != login:
        said.append(f"The login was {sheet.seen_login}, and is {login}.")
    sheet.seen_settings, sheet.seen_login = settings, login
    return said


def suspension(sheet_id: str) -> str:
    """Why a system's routines stand still meanwhile."""
    return f"a restore goes on (run sheet {sheet_id[:12]})"


async def _goes_on(session: AsyncSession, run: Run) -> None:
    """The routines that stood still for this restore do so no longer; what a person suspended stays
    so.
    """
    system = await session.get_one(System, run.system_id, with_for_update=True)
    if system.suspended_because == suspension(str(run.sheet_id)):
        system.suspended_because = ""


async def _store_sheet(session: AsyncSession, sheet_id: str, sheet: Sheet) -> None:
    row = await session.get_one(SheetRow, sheet_id, with_for_update=True)
    row.data, row.state, row.version = sheet, sheet.state, sheet.version


async def _close_run(
    context: Context, lease: Lease, sheet_id: str, sheet: Sheet, material: _Material
) -> None:
    now = context.now()
    async with context.session() as session:
        run = await queue.owned(session, lease)
        if sheet.state == "waiting":
            gate = sheet.open_gate()
            run.reason = gate.question if gate else ""
            run.remedy = f"Answer with `fennox restore answer {sheet_id[:12]}`."
            await queue.end(session, run, "waiting", now)
            return
        if sheet.state == "given up":
            await _given_up(session, run, sheet)
            await queue.end(session, run, "done", now)
            return
        assert sheet.proof is not None
        missing = sum(len(item.missing) for item in sheet.proof.lists)
        run.result = RestoreResult(sheet=sheet_id, proved=sheet.proof.proved, missing=missing)
        run.reason = run.remedy = ""
        joins = _becomes_the_system(context, sheet)
        if joins:
            await _join_identity(session, run, sheet)
        if sheet.state == "proved":
            await _goes_on(session, run)
        else:
            run.reason = "The restore was done, but not everything is there again: see its proof."
            run.remedy = (
                "Mend what is missing, then have it proved anew: fennox restore start"
                f" {sheet_id[:12]}. What the target held before is the safety copy"
                f" {(sheet.safety or '')[:12]}."
            )
            run.problem = "not-proved"
        await queue.end(session, run, "done" if sheet.state == "proved" else "failed", now)
    if sheet.state == "proved":
        at = sheet.after.place.address
        facts: list[tuple[notes.Fact, str]] = [("proved", f"restored onto {at} and proved")]
        if joins:
            facts.append(
                (
                    "identity joined",
                    f"the machine {sheet.target_machine} at {at} is this system now",
                )
            )
        for fact, reason in facts:
            note = notes.Note(
                fact=fact,
                backup=material.backup.id,
                system=material.system.id,
                time=stamp(now),
                by=sheet_id,
                reason=reason,
            )
            await material.reader.vault.write_note(note, material.reader.record.reference)


async def _given_up(session: AsyncSession, run: Run, sheet: Sheet) -> None:
    """The system goes on as it was; what stays on the target is said with the way back."""
    await _goes_on(session, run)
    run.result = UndoResult(
        sheet=str(run.sheet_id), undone=sum(step.state == "done" for step in sheet.undo)
    )
    stays = sheet.staying()
    run.reason = run.remedy = ""
    if stays:
        run.reason = f"What was done by this stays on the target: {'; '.join(stays)}."
        run.remedy = (
            f"Put back what it held before: fennox restore draft {(sheet.safety or '')[:12]}"
        )


def _becomes_the_system(context: Context, sheet: Sheet) -> bool:
    """A proved restore of all essential parts, unless a person said that the system stays what it
    is.

    A machine that only got some of them stays what it is in any case.
    """
    kind, _ = context.kind(sheet.kind)
    whole = sheet.rejoined and not planning.left_out_essentials(kind, sheet.parts)
    return (
        sheet.state == "proved"
        and whole
        and (sheet.takes_over is True or not sheet.at_another_machine)
    )


async def _join_identity(session: AsyncSession, run: Run, sheet: Sheet) -> None:
    """A reinstalled machine stays the same system: its backups go on under the new identity and
    place.
    """
    system = await session.get_one(System, run.system_id, with_for_update=True)
    system.address, system.key = sheet.after.place.address, sheet.after.place.key
    if system.machine is not None:
        system.machine = system.machine.model_copy(update={"id": sheet.target_machine})
    system.version += 1
