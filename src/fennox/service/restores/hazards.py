"""What a restore of a system meets that can go wrong, and when that was met in a proved one."""

from __future__ import annotations

from collections.abc import Iterable

from sqlalchemy import ColumnElement, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import SheetRow
from fennox.catalogue.models.systems import System
from fennox.core.kind_files import in_sentences
from fennox.core.kinds.model import Kind
from fennox.core.kinds.steps import StepModel
from fennox.core.restoring.sheet import Sheet
from fennox.wire.machines.hazards import Hazard, Hazards, HazardSort, Met

_MOST = 20  # proved restores of the system, and of others; older ones say little about today


async def hazards_of(session: AsyncSession, system: System, kind: Kind) -> Hazards:
    """Of the restores that the caller may see."""
    own = await _met(session, kind, SheetRow.system_id == system.id)
    others = await _met(session, kind, SheetRow.system_id != system.id)
    return Hazards(
        kind=kind.name,
        kind_version=kind.version,
        items=[
            Hazard(
                phase=phase,
                step=step.title,
                sorts=sorts,
                question=step.ask or "",
                leaves=step.meanwhile.says if step.meanwhile is not None else "",
                met=own.get(step.title),
                met_elsewhere=others.get(step.title),
            )
            for phase, step in kind.steps()
            if (sorts := sorts_of(step))
        ],
        versions=in_sentences.versions(kind),
    )


async def _met(session: AsyncSession, kind: Kind, whose: ColumnElement[bool]) -> dict[str, Met]:
    proved = (
        select(SheetRow)
        .where(SheetRow.data["kind"].astext == kind.name, SheetRow.was_proved(), whose)
        .order_by(SheetRow.created.desc())
        .limit(_MOST)
    )
    return met_in((row.id, row.data) for row in (await session.execute(proved)).scalars())


def sorts_of(step: StepModel) -> list[HazardSort]:
    """In what ways a step can hurt."""
    changes = step.do not in ("gate", "check", "validate", "agree", "rejoin")
    found: list[tuple[HazardSort, bool]] = [
        ("asks", step.do == "gate"),
        ("must-hold", step.do in ("check", "validate", "agree")),
        ("no-way-back", step.no_return),
        ("not-undone", changes and not step.undone and not step.no_return),
        ("restarts", step.restarts),
        ("leaves-open", step.meanwhile is not None),
    ]
    return [sort for sort, holds in found if holds]


def met_in(sheets: Iterable[tuple[str, Sheet]]) -> dict[str, Met]:
    """By the title of a step, the first of these proved sheets (id, sheet) in which it was done."""
    found: dict[str, Met] = {}
    for sheet_id, sheet in sheets:
        if sheet.proof is None:
            continue
        met = Met(
            sheet=sheet_id,
            system=sheet.system_name,
            purpose=sheet.purpose,
            at=sheet.proof.at,
            kind_version=sheet.kind_version,
        )
        for step in sheet.steps:
            if step.state == "done" and step.kind_step is not None:
                found.setdefault(step.title, met)
    return found
