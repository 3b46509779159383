"""Drafting and doing restores as runs."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Run, SheetRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import FennoxError, LeaseLost, MendSettings, Stopped
from fennox.core.format.manifest import Reached
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.restoring import changed_facts, plan_steps
from fennox.core.restoring.replicating import Peers
from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.journal import Journal
from fennox.engine.restoring.restore import RestoreUnderWay
from fennox.engine.restoring.targets import WhoseLogin
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Link
from fennox.service.drops.offering import DropOffers
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.restores import peers, returning
from fennox.service.restores.ending import close_run
from fennox.service.restores.material import Material, gather, said_of_login, said_of_secrets
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.systems import old_machine
from fennox.service.takes.safety_copy import take_safety_copy
from fennox.service.takes.take_begun import subject_of


async def run_restore(context: Context, lease: Lease, journal: Journal) -> None:
    """Execute the sheet exactly; wait where it needs a person."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        row = await session.get_one(SheetRow, run.sheet_id)
        sheet = row.data
    material = await gather(
        context, lease, journal, row.backup_id, row.target_login_id, row.after_login_id
    )
    system = material.system
    kind, _ = context.kinds.kind(system.kind)
    if kind.version != sheet.kind_version:
        await _undo_by(kind, sheet, material)
    doing = _Doing(context, lease, journal, row, kind, material)
    if not sheet.begun() and not sheet.giving_up:
        secrets = await said_of_secrets(context, sheet.secrets)
        changed = [
            *await doing.see_old_machine(sheet),
            *_changed_since(sheet, kind, material, secrets),
        ]
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
        connect=doing.connect,
        evaluates=context.readings,
        save=doing.save,
        take_safety=doing.take_safety,
        see_old_machine=doing.see_old_machine,
        see_peers=doing.see_peers,
        offers=DropOffers(context, system.id, material.way.site),
    )
    try:
        done = await restore.go_on()
    except (LeaseLost, Stopped):
        raise
    except FennoxError:
        await _return_if_chosen(context, lease, row.id, sheet)
        raise
    await close_run(context, lease, row.id, done, material)
    if done.state == "not proved":
        await _return_if_chosen(context, lease, row.id, done)


async def _return_if_chosen(context: Context, lease: Lease, sheet_id: str, sheet: Sheet) -> None:
    """Queue the way back behind this run, where a person chose that when the restore began."""
    if not sheet.return_on_failure or not sheet.can_return():
        return
    async with context.session() as session:
        run = await session.get_one(Run, lease.run)
        row = await session.get_one(SheetRow, sheet_id, with_for_update=True)
        await returning.request(context, session, row, run.by, begin=True)


@dataclass(frozen=True)
class _Doing:
    """The service's callbacks for the engine during a restore."""

    context: Context
    lease: Lease
    journal: Journal
    row: SheetRow
    kind: Kind
    material: Material

    async def connect(self, place: Place, whose: WhoseLogin) -> Link:
        context, material = self.context, self.material
        way = material.way
        if whose == "entrance":
            assert self.kind.restore is not None
            assert self.kind.restore.entrance is not None
            async with context.session() as session:
                login = await session.get_one(Login, self.row.entrance_login_id)
            use = login_uses.of_sheet(self.kind, place, login, self.row.data.all_settings())
            return await context.machines.connect(self.kind.restore.entrance, use, way)
        login = material.target_login if whose == "target" else material.login
        use = login_uses.of_sheet(self.kind, place, login, self.row.data.all_settings())
        return await context.machines.connect(self.kind, use, way)

    async def save(self, changed: Sheet) -> None:
        async with self.context.session() as session:
            await queue.owned(session, self.lease)
            await _store_sheet(session, self.row.id, changed)

    async def see_old_machine(self, sheet: Sheet) -> list[str]:
        if sheet.purpose != "replace":  # for practice and seeds it stays in service
            return []
        material = self.material
        there = sheet.target.address
        found = await old_machine.look(self.context, material.system, material.login, there)
        return old_machine.seen_anew(sheet, found)

    async def see_peers(self, _sheet: Sheet) -> Peers:
        """Those that the backup names."""
        census = (await self.material.reader.head()).census
        return await peers.seen(self.context, self.kind, self.material.system, census)

    async def take_safety(self, link: Link) -> Taken:
        context, material, target = self.context, self.material, self.row.data.target
        async with context.session() as session:
            written = material.spare or material.system
            system = await session.get_one(System, written.id)
            subject = await subject_of(context, session, system)
        reached = Reached(address=target.address, account=target.account, key=target.key)
        return await take_safety_copy(
            context,
            self.lease,
            link,
            replace(subject, reached=reached),
            material.store,
            material.reader.vault,
            self.journal,
        )


async def _undo_by(kind: Kind, sheet: Sheet, material: Material) -> None:
    """Have a person agree to undo steps from the present kind. Steps forward only run as drafted.
    Raises ``MendSettings`` if the restore is not being given up.
    """
    versions = (
        f"was version {sheet.kind_version} when the sheet was drafted and is version"
        f" {kind.version} now"
    )
    if not sheet.giving_up:
        undo = (
            "What this one has begun is undone by: fennox restore undo. " if sheet.begun() else ""
        )
        raise MendSettings(
            f"The kind {kind.name} {versions}.",
            f"{undo}Draft it anew: fennox restore redraft SHEET.",
        )
    sheet.undo = plan_steps.undo_anew(kind, await material.reader.head(), sheet)
    sheet.kind_version = kind.version
    titles = "; ".join(
        f"{step.title}: {' && '.join(step.commands)}"
        for step in sheet.to_undo()
        if step.state != "done"
    )
    question = f"The kind {kind.name} {versions}. What is undone is now: {titles or 'nothing'}."
    sheet.ask_anew("undo", None, question, ["accept"])


def _changed_since(
    sheet: Sheet, kind: Kind, material: Material, secrets: dict[str, str]
) -> list[str]:
    """Differences from the sheet: the system's settings, which the sheet's override, and the
    logins.
    """
    settings, login = (
        values_of(kind, dict(material.system.settings)),
        said_of_login(material.target_login),
    )
    said = []
    if sheet.settings and (
        changed := changed_facts.changed_settings(sheet.seen_settings, settings)
    ):
        said.append(f"Of the system {'; '.join(changed)}; the restore uses what the sheet shows.")
    if sheet.seen_login and sheet.seen_login != login:
        said.append(f"The login was {sheet.seen_login}, and is {login}.")
    for name, now in secrets.items():
        if now != (then := sheet.seen_secrets.get(name, "")):
            said.append(f"The secret {name} was {then or 'not set'}, and is {now or 'not set'}.")
    sheet.seen_settings, sheet.seen_login, sheet.seen_secrets = settings, login, secrets
    return said


async def _store_sheet(session: AsyncSession, sheet_id: str, sheet: Sheet) -> None:
    row = await session.get_one(SheetRow, sheet_id, with_for_update=True)
    row.data, row.state, row.version = sheet, sheet.state, sheet.version
