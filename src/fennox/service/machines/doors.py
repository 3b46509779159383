"""All that is needed to open a store, read in one session; opening it needs no database any
more.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fennox.core.format.primitives.hpke import OpeningKey
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.names import ObjectName
from fennox.links.base import Credential


@dataclass(frozen=True)
class Door:
    """The way into a store. ``place`` and ``known`` name the connection and what it was made with.

    ``header``: the pinned one. ``newest``: the record that was put there last, as far as the
    catalogue knows.
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
