"""Everything needed to open a store, read in one session; opening it then needs no database."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.names import ObjectName
from fennox.links.base import Credential


@dataclass(frozen=True)
class Door:
    """Access to a store. ``place`` and ``known`` identify the connection and its parameters.
    ``header``: the pinned one. ``newest``: the record stored last, as far as the catalogue knows.
    """

    store: str
    name: str
    address: str
    place: str
    known: tuple[str | None, ...]
    credential: Credential | None
    key: str | None
    header: str
    held: Mapping[int, WriteSecret]
    opening: OpeningKey | None
    chain: Mapping[int, bytes]
    newest: ObjectName | None = None
