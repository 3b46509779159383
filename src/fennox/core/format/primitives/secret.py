"""Keys derived from the write secret W, and sealing under it (§3.4, §3.5, §3.6)."""

from __future__ import annotations

import hmac
from dataclasses import dataclass, field
from functools import cached_property
from hashlib import sha256
from typing import Literal

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from fennox.core.errors import Damaged

Purpose = Literal["pack table", "record", "note", "sweep", "anchor"]

SALT_LENGTH = 32  # bytes
_NONCE_ZERO = bytes(12)  # safe: every salt is fresh, so every key seals once (§3.6)


def derive(secret: bytes, info: str, salt: bytes = b"") -> bytes:
    """HKDF-SHA256 (RFC 5869) to 32 bytes; ``info`` is ASCII with fields joined by ``|`` (§3.5)."""
    return HKDF(hashes.SHA256(), 32, salt, info.encode("ascii")).derive(secret)


@dataclass(frozen=True)
class WriteSecret:
    """W of one generation of a key set, as used in one store."""

    raw: bytes = field(repr=False)
    key_set: str
    generation: int

    def _derived(self, label: str) -> bytes:
        return derive(self.raw, f"fennox/1|{label}|{self.key_set}|{self.generation}")

    @cached_property
    def chunk_id_key(self) -> bytes:
        return self._derived("chunk id")

    @cached_property
    def chunk_key_key(self) -> bytes:
        return self._derived("chunk key")

    @cached_property
    def _mac_key(self) -> bytes:
        return self._derived("record mac")

    @cached_property
    def header_mac_key(self) -> bytes:
        return self._derived("header mac")

    @cached_property
    def census_key(self) -> bytes:
        """Key of the digests that replace names in the database in custody ``apart``."""
        return self._derived("census")

    def mac(self, data: bytes) -> bytes:
        return hmac.digest(self._mac_key, data, sha256)

    def keyed_digest(self, data: bytes) -> bytes:
        return hmac.digest(self.census_key, data, sha256)

    def keyed_census(self, census: dict[str, list[str]]) -> dict[str, list[str]]:
        """Names as the catalogue keeps them in custody ``apart``: as keyed digests (§3.5)."""
        return {
            name: [self.keyed_digest(value.encode()).hex() for value in values]
            for name, values in census.items()
        }

    def _sealer(self, purpose: Purpose, store: str, salt: bytes) -> AESGCM:
        return AESGCM(derive(self.raw, f"fennox/1|{purpose}|{store}|{self.generation}", salt))

    def seal(self, plain: bytes, purpose: Purpose, store: str, salt: bytes, aad: bytes) -> bytes:
        if len(salt) != SALT_LENGTH:
            raise ValueError("a salt has 32 bytes")
        return self._sealer(purpose, store, salt).encrypt(_NONCE_ZERO, plain, aad)

    def open(self, sealed: bytes, purpose: Purpose, store: str, salt: bytes, aad: bytes) -> bytes:
        try:
            return self._sealer(purpose, store, salt).decrypt(_NONCE_ZERO, sealed, aad)
        except InvalidTag as error:
            raise Damaged(
                f"A {purpose} does not open under the write secret of generation"
                f" {self.generation}.",
                "It was changed, or belongs to another store; heal it from another copy.",
            ) from error
