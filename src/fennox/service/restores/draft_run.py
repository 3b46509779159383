"""Drafting a restore: read backup and target, and write the sheet."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.systems import Login
from fennox.core.errors import FarSideFailed, WrongLogin
from fennox.core.evidence.evaluation import parts_to_take
from fennox.core.facts.run_orders import Aim, DraftOrder, of_kind
from fennox.core.facts.run_results import DraftResult
from fennox.core.format.manifest import Finding, Head
from fennox.core.kinds.filling import filled_in, values_of
from fennox.core.kinds.model import Kind
from fennox.core.places import single_objects
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring import plan_inputs, planning, proving, replicating
from fennox.core.restoring.plan_inputs import Target
from fennox.core.restoring.redrafting import carried_over
from fennox.core.restoring.replicating import ReplicaPlan
from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.journal import Journal
from fennox.engine.restoring import placing
from fennox.engine.restoring.placed_backup import PlacedBackup
from fennox.engine.restoring.targets import look_at_target
from fennox.service.drops import offering
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import Way
from fennox.service.restores import peers, requests, returning, usual_durations
from fennox.service.restores.material import (
    LOGIN_AFTER,
    Material,
    gather,
    said_of_login,
    said_of_secrets,
)
from fennox.service.restores.requests import sheet_of
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.service.systems import old_machine


def _standing(material: Material) -> list[Finding]:
    """Findings about the backup and its login from the catalogue."""
    backup, found = material.backup, []
    if backup.doubtful:
        found.append(_warning("doubtful", "The backup is doubtful.", "Check it before you use it."))
    if backup.partial and backup.purpose != "safety":
        found.append(_warning("partial", "The backup does not hold all essential parts."))
    if material.login.changed > backup.time:
        found.append(_warning("login-changed", f"For {material.login.name} {LOGIN_AFTER}."))
    return found


async def _row(
    session: AsyncSession,
    material: Material,
    sheet: Sheet,
    again: str | None,
    now: datetime,
    by: str,
) -> SheetRow:
    """A new sheet; or the one that is drafted anew, with what is done on it."""
    if again is None:
        row = SheetRow(
            id=secrets.token_hex(16),
            system_id=material.system.id,
            spare_id=material.spare.id if material.spare is not None else None,
            backup_id=material.backup.id,
            target_login_id=material.target_login.id,
            created=now,
            by=by,
        )
        session.add(row)
    else:
        row = await session.get_one(SheetRow, again, with_for_update={"key_share": True})
        sheet = carried_over(sheet_of(row), sheet)
    row.data, row.state, row.version = sheet, sheet.state, sheet.version
    return row


async def _parts(material: Material, kind: Kind, order: DraftOrder) -> list[str]:
    """A safety copy is put back as far as it could be taken."""
    if order.purpose != "return":
        return parts_to_take(kind, order.parts)
    held = {part.name for part in (await material.reader.head()).parts}
    return [name for name in parts_to_take(kind, None) if name in held]


def _warning(code: str, text: str, remedy: str = "") -> Finding:
    return Finding(severity="warning", code=code, text=text, remedy=remedy)


async def run_draft(context: Context, lease: Lease, journal: Journal) -> None:
    """Read backup and target, change nothing, and write the sheet."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        order = of_kind(run.order, DraftOrder)
        by = run.by
        back = await session.get_one(SheetRow, order.returns) if order.returns else None
        again = await session.get_one(SheetRow, order.again) if order.again else None
    after_login = back.target_login_id if back is not None else None
    if again is not None:
        after_login = again.after_login_id
    material = await gather(context, lease, journal, order.backup, order.target.login, after_login)
    system = material.system
    kind, _ = context.kinds.kind(system.kind)
    parts = await _parts(material, kind, order)
    meant = _settings(kind, order, system.settings if back is None else back.data.all_settings())
    target = await _look(context, material, kind, parts, order, meant, journal)
    await journal.step("Compare it with the backup and write the run sheet")
    settings = values_of(kind, dict(system.settings) if back is None else back.data.settings)
    backup, found = await _placed(context, material, kind, parts, target, order, settings)
    source = await _source(context, material, backup, parts, target, order.purpose)
    offers = await offering.outlook(context, kind, parts, material.way.site)
    standing = [*source.standing, *found, *offers.findings]
    replica = await _replica(context, material, kind, order, parts, source.head, journal)
    source = replace(source, standing=standing, offered_at=offers.values, replica=replica)
    entrance = await _checked_entrance(context, kind, material.way, order.entrance, target)
    spare = material.spare.name if material.spare is not None else None
    way_back = None
    if back is not None:
        way_back = await returning.way_back(back, material, kind, target, context.readings)
    intent = planning.Intent(order.purpose, spare, order.new_name, way_back)
    sheet = planning.plan(kind, intent, source, target, parts, settings, entrance)
    sheet.seen_login = said_of_login(material.target_login)
    sheet.secrets = login_uses.logins_in(kind, meant)
    sheet.seen_secrets = await said_of_secrets(context, sheet.secrets)
    at_entrance = order.entrance if entrance is not None else None
    async with context.session() as session:
        run = await queue.owned(session, lease)
        await usual_durations.foretell(session, sheet)
        row = await _row(session, material, sheet, order.again, context.now(), by)
        row.entrance_login_id = at_entrance.login if at_entrance is not None else None
        row.after_login_id = after_login
        await session.flush()
        run.sheet_id = row.id
        run.result = DraftResult(sheet=row.id, blockers=len(sheet.blockers()))
        await queue.end(session, run, "done", context.now())
        if order.begin and not sheet.blockers():
            await requests.begin(context, session, row, by)


async def _replica(
    context: Context,
    material: Material,
    kind: Kind,
    order: DraftOrder,
    parts: list[str],
    head: Head,
    journal: Journal,
) -> ReplicaPlan | None:
    """Whose copy wins; None: nothing that is restored is replicated. Raises BadInput for a claim of
    what the backup does not hold.
    """
    rule = kind.replicas
    if rule is not None and not set(parts) & set(proving.parts_holding(kind, rule.lists)):
        return None
    stance = replicating.stance_for(order.purpose, order.stance)
    if rule is not None and rule.numbers is not None and head.census.get(rule.list):
        await journal.step("Look how far the other members are")
    found = await peers.seen(context, kind, material.system, head.census)
    return replicating.planned(kind, head.census, found, stance, order.claim)


def _settings(kind: Kind, order: DraftOrder, settings: Mapping[str, str]) -> dict[str, str]:
    """With the target's own login of the further way, if a person gave one."""
    own = {kind.beside.login: order.beside} if kind.beside is not None and order.beside else {}
    return {**settings, **own}


async def _look(
    context: Context,
    material: Material,
    kind: Kind,
    parts: list[str],
    order: DraftOrder,
    settings: dict[str, str],
    journal: Journal,
) -> Target:
    login, aim = material.target_login, order.target
    place = Place(address=aim.address, account=login.account, key=aim.key)
    await journal.step(f"Look at the target at {place.address}")
    use = login_uses.of_sheet(kind, place, login, settings)
    link = await context.machines.connect(kind, use, material.way)
    try:
        return await look_at_target(kind, link, place, settings, parts, context.readings)
    except WrongLogin as error:
        if kind.beside is None or order.beside:
            raise
        raise WrongLogin(
            error.what,
            f"{error.remedy} A new machine has a login of its own for its"
            f" {kind.beside.reach.upper()}: give it with --beside-login.",
        ) from error
    finally:
        await link.close()


async def _placed(
    context: Context,
    material: Material,
    kind: Kind,
    parts: list[str],
    target: Target,
    order: DraftOrder,
    settings: Mapping[str, str],
) -> tuple[PlacedBackup, list[Finding]]:
    """The backup as it will be written, and what must be known of values of the place."""
    filled, own = filled_in(kind, settings), material.system.machine
    wishes = placing.PlaceWishes(
        purpose=order.purpose,
        same_machine=own is not None and own.id == target.machine.id,
        new_name=order.new_name,
        given=order.places,
    )
    sent = plan_inputs.sent_parts(kind, parts)
    placed, findings = await placing.place(
        material.reader, filled, sent, target, wishes, context.readings
    )
    head = await material.reader.head()
    placed.only = single_objects.chosen(order.only, head.census)
    return PlacedBackup(material.reader, filled, placed, context.readings), findings


async def _source(
    context: Context,
    material: Material,
    backup: PlacedBackup,
    parts: list[str],
    target: Target,
    purpose: RestorePurpose,
) -> plan_inputs.RestoreSource:
    system = material.system
    async with context.session() as session:
        standing = await login_uses.another_system(
            session, system, target.machine.id, material.spare
        )
    old = []
    if purpose == "replace":  # for practice and seeds it stays in service
        old = await old_machine.look(context, system, material.login, target.place.address)
    return plan_inputs.RestoreSource(
        backup=material.backup.id,
        system=system.id,
        system_name=system.name,
        head=await backup.head(),
        documents=await backup.digests(parts),
        sizes=await backup.sizes(parts),
        login_account=material.login.account,
        address=system.address,
        machine=system.machine.id if system.machine is not None else "",
        key=system.key,
        taken=material.backup.time,
        standing=[*standing, *_standing(material), *old],
        placed=backup.placed,
    )


async def _checked_entrance(
    context: Context, kind: Kind, way: Way, wanted: Aim | None, target: Target
) -> Place | None:
    """The entrance used by the steps; checks now that it accepts the login, unless it is closed
    until a step opens it. Raises FarSideFailed if the target does not tell its key.
    """
    entrance = kind.restore.entrance if kind.restore is not None else None
    if entrance is None or wanted is None:
        return None
    async with context.session() as session:
        login = await session.get_one(Login, wanted.login)
    if entrance.key_in is not None:
        told = target.census.get(entrance.key_in, [])
        if not told:
            raise FarSideFailed(
                f"The target does not tell the key of its entrance ({entrance.key_in}).",
                "Check that the machine is of this kind.",
            )
        return Place(address=wanted.address, account=login.account, key=told[0])
    place = Place(address=wanted.address, account=login.account, key=wanted.key)
    if entrance.until_rejoin:
        return place  # a person or a step opens it
    link = await context.machines.connect(
        entrance, login_uses.of_sheet(kind, place, login, {}), way
    )
    await link.close()
    return place
