"""Safety copies are held as long as their restore may still be needed, and no longer."""

from __future__ import annotations

from datetime import datetime, timedelta

import pytest

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring.proof import Proof
from fennox.core.restoring.sheet import SheetState
from fennox.service.machines.context import Context
from fennox.service.takes import safety_copy
from tests.service.contexts import START, SetClock, add_backup, add_store, add_system, sheet_of

HELD = "what the target held before a restore"


async def a_restore(
    context: Context,
    purpose: RestorePurpose = "replace",
    state: SheetState = "proved",
    accepted: datetime | None = START,
    because: str = HELD,
) -> str:
    """The id of its safety copy."""
    store, system = await add_store(context), await add_system(context, "web-9")
    backup = await add_backup(
        context, system, store, START, 1, purpose="safety", held=True, held_because=because
    )
    sheet = sheet_of("web-9", system, backup)
    sheet.purpose, sheet.state, sheet.accepted, sheet.safety = purpose, state, accepted, backup
    if state == "proved":
        sheet.proof = Proof(proved=True, lists=[], left_out_lists=[], checks=[], at=START)
    async with context.session() as session:
        login = (await session.get_one(System, system)).login_id
        session.add(
            SheetRow(
                id="s" * 32,
                system_id=system,
                backup_id=backup,
                target_login_id=login,
                entrance_login_id=None,
                state=state,
                data=sheet,
                version=1,
                created=START,
                by="harbour-admin",
            )
        )
    return backup


async def is_held(context: Context, backup: str) -> bool:
    await safety_copy.release_settled(context)
    async with context.session() as session:
        return (await session.get_one(Backup, backup)).held


async def test_a_safety_copy_is_released_a_week_after_its_restore_was_accepted(
    context: Context, clock: SetClock
) -> None:
    backup = await a_restore(context)
    clock.at = START + timedelta(days=6)
    assert await is_held(context, backup)
    clock.at = START + timedelta(days=8)
    assert not await is_held(context, backup)


@pytest.mark.parametrize(
    ("state", "accepted", "because"),
    [
        ("proved", None, HELD),
        ("not proved", None, HELD),
        ("failed", None, HELD),
        ("given up", None, HELD),
        ("proved", START, "a person wants it"),
    ],
)
async def test_what_may_still_be_needed_stays_on_hold(
    context: Context,
    clock: SetClock,
    state: SheetState,
    accepted: datetime | None,
    because: str,
) -> None:
    backup = await a_restore(context, state=state, accepted=accepted, because=because)
    clock.at = START + timedelta(days=400)
    assert await is_held(context, backup)


async def test_practice_has_nothing_to_accept(context: Context, clock: SetClock) -> None:
    backup = await a_restore(context, purpose="practise", accepted=None)
    clock.at = START + timedelta(days=8)
    assert not await is_held(context, backup)
