"""Content of any length behind a root of a few references (§5)."""

from __future__ import annotations

import base64
from typing import Annotated

from pydantic import Field

from fennox.core.format.primitives.canonical import Stored

MAX_ROOT = 8  # references a root holds before another level is added
MAX_DEPTH = 6


class Ref(Stored):
    """A chunk: id (hex), key (base64), plain length in bytes, and the pack that held it, as a
    hint.
    """

    id: str
    key: Annotated[str, Field(repr=False)]
    length: Annotated[int, Field(ge=0)]
    pack: str = ""

    def id_bytes(self) -> bytes:
        return bytes.fromhex(self.id)

    def key_bytes(self) -> bytes:
        return base64.b64decode(self.key, validate=True)


class Root(Stored):
    """``depth`` 0: the chunks are the content; above: they are a list of references of the level
    below.
    """

    depth: Annotated[int, Field(ge=0, le=MAX_DEPTH)]
    chunks: Annotated[list[Ref], Field(max_length=MAX_ROOT)]


class Level(Stored):
    """The content of chunks on levels above 0."""

    refs: list[Ref]


EMPTY = Root(depth=0, chunks=[])
