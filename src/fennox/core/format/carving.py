"""Carving contents in batches: digest, cut into chunks, name and optionally seal (§4)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from fennox.core.format import chunks
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.format.primitives.hpke import RandomBytes


class Recipe(NamedTuple):
    """How to carve: the two keys that name chunks (§4.2), the ``sizes`` (§4.1), and whether to
    seal.
    """

    id_key: bytes
    key_key: bytes
    sizes: tuple[int, int, int]
    seal: bool


class Cut(NamedTuple):
    """A chunk's name, the length of its plaintext, and the chunk as it is stored if it was
    sealed.
    """

    id: bytes
    key: bytes
    length: int
    sealed: bytes | None


class Carved(NamedTuple):
    """One content: its digest as hex, and its chunks in order."""

    digest: str
    cuts: list[Cut]


def carve(contents: Sequence[bytes], recipe: Recipe, random: RandomBytes) -> list[Carved]:
    return [Carved(blake2b_256(content), _cuts(content, recipe, random)) for content in contents]


def _cuts(content: bytes, recipe: Recipe, random: RandomBytes) -> list[Cut]:
    pieces = [
        chunks.named(plain, recipe.id_key, recipe.key_key)
        for plain in chunks.cut(content, recipe.sizes)
    ]
    return [
        Cut(
            piece.id,
            piece.key,
            len(piece.plain),
            chunks.seal(piece, random(12)) if recipe.seal else None,
        )
        for piece in pieces
    ]
