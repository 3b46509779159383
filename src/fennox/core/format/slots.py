"""Slots: the opening key locked under a passphrase, and the cost of trying one (§3.1)."""

from __future__ import annotations

import base64
import threading
from collections.abc import Iterable
from typing import Annotated

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.argon2 import Argon2id
from pydantic import Field

from fennox.core.constant_time import same
from fennox.core.errors import Damaged, StoreUnusable
from fennox.core.format.primitives.canonical import Stored
from fennox.core.format.primitives.hpke import RandomBytes
from fennox.core.format.primitives.secret import derive

MAX_MEMORY = 2 * 1024 * 1024  # KiB; a slot that asks for more is refused before any work
MAX_PASSES = 32
MAX_LANES = 16
MAX_SLOTS = 32
MAX_WORK = 128 * 1024 * 1024  # KiB times passes, over all derivations to open a store

# RFC 9106, section 4, the second recommended option: 64 MiB, three passes. Whoever has a copy of a
# header guesses against its cheapest slot.
FLOOR_MEMORY = 64 * 1024
FLOOR_WORK = 3 * FLOOR_MEMORY

ONE_AT_A_TIME = threading.RLock()
"""Held by every Argon2id hash of the process: each takes hundreds of MB, and two with several lanes
in two threads have waited for each other for ever.
"""


class Costs(Stored):
    """Argon2id costs (RFC 9106): memory in KiB, passes, lanes."""

    memory: Annotated[int, Field(ge=8, le=MAX_MEMORY)]
    passes: Annotated[int, Field(ge=1, le=MAX_PASSES)]
    lanes: Annotated[int, Field(ge=1, le=MAX_LANES)]

    @property
    def work(self) -> int:
        """KiB times passes: the cost of a guess and of opening."""
        return self.memory * self.passes

    @property
    def weak(self) -> bool:
        """Whether they lie below the floor for new slots."""
        return self.memory < FLOOR_MEMORY or self.work < FLOOR_WORK


class Slot(Stored):
    """The opening key, locked under one passphrase. ``commit``: missing in slots made before
    December 2026.
    """

    id: str
    label: str
    since: str
    costs: Costs
    salt: str  # base64, 16 bytes
    nonce: str  # base64, 12 bytes
    locked: str  # base64
    # base64, 32 bytes
    commit: str | None = Field(default=None, exclude_if=lambda value: value is None)


class Passphrase:
    """A passphrase tried against slots: each key is derived once, within a total bound."""

    def __init__(self, text: str, bound: int = MAX_WORK) -> None:
        self._text = text.encode()
        self._left = bound
        self._keys: dict[tuple[str, int, int, int], bytes] = {}

    def open(self, slot: Slot, key_set: str, generation: int) -> bytes | None:
        """The locked key; None for a wrong passphrase. Raises ``StoreUnusable`` beyond the
        bound.
        """
        try:
            key = self._key(slot)
            if slot.commit is not None and not same(
                _commit(key, key_set, generation, slot), slot.commit
            ):
                return None
            return AESGCM(key).decrypt(
                unbase64(slot.nonce), unbase64(slot.locked), _aad(key_set, generation, slot)
            )
        except (
            InvalidTag,
            ValueError,
        ):  # the latter also for a salt or costs that Argon2id rejects
            return None

    def _key(self, slot: Slot) -> bytes:
        costs = slot.costs
        place = (slot.salt, costs.memory, costs.passes, costs.lanes)
        if place not in self._keys:
            if costs.work > self._left:
                raise StoreUnusable(
                    "The headers ask for more work than opening a store takes: they were made to"
                    " keep you waiting.",
                    "Put the header from the recovery sheet, or from another copy, in the place of"
                    " all others.",
                )
            self._left -= costs.work
            self._keys[place] = derived(self._text, unbase64(slot.salt), costs)
        return self._keys[place]


def lock(
    key_set: str,
    generation: int,
    opening: bytes,
    passphrase: str,
    *,
    label: str,
    since: str,
    costs: Costs,
    random: RandomBytes,
    slot_id: str | None = None,
) -> Slot:
    """Lock an opening key under a passphrase."""
    salt, nonce = random(16), random(12)
    bare = Slot(
        id=slot_id or random(8).hex(),
        label=label,
        since=since,
        costs=costs,
        salt=base64_of(salt),
        nonce=base64_of(nonce),
        locked="",
    )
    key = derived(passphrase.encode(), salt, costs)
    sealed = AESGCM(key).encrypt(nonce, opening, _aad(key_set, generation, bare))
    return bare.model_copy(
        update={"locked": base64_of(sealed), "commit": _commit(key, key_set, generation, bare)}
    )


def work(slots: Iterable[Slot]) -> int:
    return sum(slot.costs.work for slot in slots)


def derived(passphrase: bytes, salt: bytes, costs: Costs) -> bytes:
    """The key of a slot (§3.1). Raises ``StoreUnusable`` if the machine lacks the memory."""
    kdf = Argon2id(
        salt=salt, length=32, iterations=costs.passes, lanes=costs.lanes, memory_cost=costs.memory
    )
    try:
        with ONE_AT_A_TIME:
            return kdf.derive(passphrase)
    except MemoryError as error:
        raise StoreUnusable(
            f"This machine does not give the {costs.memory // 1024} MiB of memory that a passphrase"
            " takes.",
            "End what else runs here, or open the store on another machine.",
        ) from error


def _aad(key_set: str, generation: int, slot: Slot) -> bytes:
    costs = slot.costs
    return (
        f"fennox/1|slot|{key_set}|{generation}|{slot.id}|{slot.salt}|{costs.memory}|{costs.passes}|{costs.lanes}"
    ).encode("ascii")


def _commit(key: bytes, key_set: str, generation: int, slot: Slot) -> str:
    """AES-GCM alone does not commit to its key: one ciphertext can be made to open under two
    passphrases.
    """
    return base64_of(derive(key, f"fennox/1|slot commitment|{key_set}|{generation}|{slot.id}"))


def base64_of(data: bytes) -> str:
    return base64.b64encode(data).decode("ascii")


def unbase64(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except ValueError as error:
        raise Damaged(
            "A field of the header is not base64.", "Use another header of this store."
        ) from error
