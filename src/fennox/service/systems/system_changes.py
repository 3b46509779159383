"""Changes of an enrolled system by people."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.links.base import parse_address
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context, named
from fennox.service.systems import enrolment
from fennox.wire.machines.enrolling import SystemChange


async def change(
    context: Context, session: AsyncSession, row: System, wanted: SystemChange
) -> None:
    """``row`` is locked. Raises BadInput, NotFound and Conflict."""
    kind, _ = context.kinds.kind(row.kind)
    _must_fit(kind, row, wanted)
    await _change_place(session, row, wanted, kind)
    await _change_kind(context, session, row, wanted, kind)
    if wanted.login is not None:
        row.login_id = (await named(session, Login, wanted.login)).id
    row.key = wanted.key if wanted.key is not None else row.key
    if wanted.needs is not None:
        row.needs = [(await named(session, System, other)).id for other in wanted.needs]
    if wanted.via is not None:
        row.via_id = (await named(session, System, wanted.via)).id if wanted.via else None
    row.patience = wanted.patience if wanted.patience is not None else row.patience
    if row.id in row.needs or row.via_id == row.id:
        raise BadInput(f"{row.name} cannot need itself.", "Name other systems.", field="needs")
    if wanted.spare is not None and wanted.spare != row.spare:
        await enrolment.make_spare(session, row, spare=wanted.spare)
    row.labels = wanted.labels if wanted.labels is not None else row.labels
    row.version += 1


def _must_fit(kind: Kind, row: System, wanted: SystemChange) -> None:
    if not kind.is_reached and (wanted.login or wanted.key or wanted.via):
        raise BadInput(f"{row.name} is not reached.", "Leave out login, key and way.")
    if kind.reach == "service" and (wanted.address or wanted.login or wanted.key):
        raise BadInput("Fennox itself has no address, login or key to change.", "Leave them out.")


async def _change_place(
    session: AsyncSession, row: System, wanted: SystemChange, kind: Kind
) -> None:
    """Change name, address and site, which must be unique."""
    if wanted.address is not None:
        row.address = str(parse_address(wanted.address, kind.port))
    row.site = wanted.site if wanted.site is not None else row.site
    if wanted.model_fields_set & {"name", "address", "site"}:
        at = row.address if row.retired is None else ""
        await enrolment.must_be_free(session, wanted.name or row.name, at, row.site, row.id)
    if wanted.name is not None and wanted.name != row.name:
        await enrolment.rename(session, row, wanted.name)


async def _change_kind(
    context: Context, session: AsyncSession, row: System, wanted: SystemChange, before: Kind
) -> None:
    """The kind and its settings."""
    kind = before
    if wanted.settings is not None:
        row.settings = dict(wanted.settings)
    if wanted.kind is not None and wanted.kind != row.kind:
        kind, _ = context.kinds.kind(wanted.kind)
        await enrolment.change_kind(session, row, kind, before)
    if wanted.settings is not None or wanted.kind is not None:
        values_of(kind, dict(row.settings))
        await login_uses.must_be_passwords(session, kind, row.settings, context.machines.keeps_rule)
