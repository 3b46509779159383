"""Kinds that an administrator adds, and kinds as the API shows them."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import KindRow
from fennox.core.errors import BadInput, Conflict
from fennox.core.kind_files import in_sentences
from fennox.core.kind_files.loading import checked
from fennox.core.kinds.model import Kind
from fennox.core.places.single_objects import parts_by_name
from fennox.service.machines.context import Context
from fennox.wire.kinds import KindShown, MachineValueShown, PartShown


def parts_of(kind: Kind) -> list[PartShown]:
    return [
        PartShown(
            name=part.name,
            title=part.title,
            essential=part.essential,
            default=part.default,
            needs=part.needs,
            uses=part.uses,
            way=part.way,
            overwrites=part.overwrites,
            documents=in_sentences.documents(part),
        )
        for part in kind.part
    ]


async def add_kind(context: Context, session: AsyncSession, text: str, by: str) -> Kind:
    """Raises BadInput for an invalid kind, and Conflict for a version that is not newer."""
    kind = checked(text, context.kinds.text)
    if kind.name in context.kinds.shipped():
        raise Conflict(f"The kind {kind.name} ships with Fennox.", "Give yours another name.")
    if kind.reach == "service":
        raise BadInput("Only Fennox itself is reached as a service.", "Reach it by ssh or https.")
    newest = select(func.max(KindRow.version)).where(KindRow.name == kind.name)
    known = (await session.execute(newest)).scalar_one_or_none()
    if known is not None and kind.version <= known:
        raise Conflict(
            f"Version {known} of {kind.name} is installed already.",
            f"Make it version = {known + 1}.",
        )
    session.add(
        KindRow(name=kind.name, version=kind.version, text=text, added=context.now(), by=by)
    )
    return kind


def _entrance(kind: Kind) -> str:
    found = kind.restore.entrance if kind.restore is not None else None
    if found is None:
        return ""
    own = "at the target's own address" if found.until_rejoin else f"port {found.port}"
    return f"{found.reach}, {own}"


def kind_shown(kind: Kind) -> KindShown:
    return KindShown(
        name=kind.name,
        version=kind.version,
        title=kind.title,
        about=kind.about.strip(),
        reach=kind.reach,
        port=kind.port,
        entrance=_entrance(kind),
        decides=kind.replicas is not None and kind.replicas.numbers is not None,
        settings={key: setting.title for key, setting in kind.settings.items()},
        defaults={key: setting.default for key, setting in kind.settings.items()},
        parts=parts_of(kind),
        census=list(kind.census),
        left_out=kind.left_out,
        rules=in_sentences.rules(kind),
        steps=[f"{phase}: {step.title}" for phase, step in kind.steps()],
        beside=kind.beside.reach if kind.beside is not None else "",
        singles={listed: sorted(parts) for listed, parts in parts_by_name(kind).items()},
        makes=[
            MachineValueShown(name=value.name, title=value.title, default=value.default)
            for value in (kind.new_machine.value if kind.new_machine is not None else [])
        ],
    )
