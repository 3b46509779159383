"""A first kind file for a package that is installed on an enrolled system."""

from __future__ import annotations

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import BadInput
from fennox.core.kind_files import drafting
from fennox.core.names import printable
from fennox.engine.reading.capture import shell_of
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import way_to

_LIMIT = 60  # seconds


async def draft(context: Context, row: System, login: Login | None, package: str) -> str:
    """Keeps nothing. Raises BadInput, Unreachable and NotFound."""
    if not drafting.is_package(package):
        raise BadInput(
            f"{printable(package)} is no name of a Debian package.",
            "Names have small letters, digits, +, - and dots: dpkg-query -W lists them.",
            field="package",
        )
    kind, _ = context.kinds.kind(row.kind)
    if not kind.reaches_by("ssh"):
        raise BadInput(
            f"{row.name} is not reached by SSH, so dpkg cannot be asked there.",
            "Write the kind from its manual; docs/your-own-kind.md goes through one.",
            field="system",
        )
    use = login_uses.of_system(kind, row, login)
    link = await context.machines.connect(kind, use, way_to(row))
    try:
        shell = await shell_of(link)
        asked = await shell.ask(drafting.questions(package), limit=_LIMIT)
    finally:
        await link.close()
    outputs = [one.output.decode("utf-8", "replace") for one in asked]
    return drafting.drafted(drafting.facts_from(package, outputs), row.name)
