"""What should have come by itself: exports that people hand in, and pushes."""

from __future__ import annotations

from collections import defaultdict

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import System
from fennox.core.format.manifest import Finding
from fennox.service.drops import missing_pushes
from fennox.service.machines.context import Context
from fennox.service.takes import hand_ins


async def lacking(
    context: Context, session: AsyncSession, systems: list[System]
) -> dict[str, list[Finding]]:
    """Each system's, by its id."""
    found: dict[str, list[Finding]] = defaultdict(list)
    for told in (
        await hand_ins.lacking(context, session, systems),
        await missing_pushes.lacking(context, session, systems),
    ):
        for system, listed in told.items():
            found[system] += listed
    return found
