"""Recognising a system: every kind whose identity can be read and whose programs exist there."""

from __future__ import annotations

from collections.abc import Sequence

from fennox.core.errors import FennoxError, TryLater
from fennox.core.kinds.commands import command
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.engine.reading.capture import identify, shell_of
from fennox.links.base import Link


async def fitting(kinds: Sequence[Kind], link: Link) -> list[Kind]:
    """The matching kinds, without those another matching kind builds on."""
    found = [kind for kind in kinds if await _fits(kind, link)]
    built_on = {name for kind in found for name in kind.includes}
    return [kind for kind in found if kind.name not in built_on]


async def _fits(kind: Kind, link: Link) -> bool:
    try:
        await identify(kind, link, {})
        if not kind.recognised_by:
            return True
        values = values_of(kind, {})
        shell = await shell_of(link)
        return (await shell.run(command(kind.recognised_by, values))).code == 0
    except TryLater:
        raise
    except FennoxError:
        return False
