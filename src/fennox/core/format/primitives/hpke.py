"""The opening and the seal key: HPKE base mode (RFC 9180), the suites a header may name (§3.2)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hpke
from cryptography.hazmat.primitives.asymmetric import mlkem
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from fennox.core.errors import Damaged

SuiteName = Literal["x25519-sha256-aes256gcm", "mlkem768x25519-sha256-aes256gcm"]
HYBRID: SuiteName = "mlkem768x25519-sha256-aes256gcm"
CLASSIC: SuiteName = "x25519-sha256-aes256gcm"

RandomBytes = Callable[[int], bytes]

_MLKEM_SEED = 64  # bytes (FIPS 203, d ‖ z)
_MLKEM_PUBLIC = 1184  # bytes (FIPS 203, table 3)

_PublicKey = X25519PublicKey | hpke.MLKEM768X25519PublicKey
_PrivateKey = X25519PrivateKey | hpke.MLKEM768X25519PrivateKey


def _suite(name: SuiteName) -> hpke.Suite:
    kem = hpke.KEM.X25519 if name == CLASSIC else hpke.KEM.MLKEM768_X25519
    return hpke.Suite(kem, hpke.KDF.HKDF_SHA256, hpke.AEAD.AES_256_GCM)


@dataclass(frozen=True)
class SealKey:
    """The public half: it seals data only the opening key opens."""

    suite: SuiteName
    raw: bytes

    def _public(self) -> _PublicKey:
        try:
            if self.suite == CLASSIC:
                return X25519PublicKey.from_public_bytes(self.raw)
            return hpke.MLKEM768X25519PublicKey(
                mlkem.MLKEM768PublicKey.from_public_bytes(self.raw[:_MLKEM_PUBLIC]),
                X25519PublicKey.from_public_bytes(self.raw[_MLKEM_PUBLIC:]),
            )
        except ValueError as error:
            raise Damaged(
                "The seal key has a wrong form.", "Use another header of this store."
            ) from error

    def seal(self, plain: bytes, info: bytes) -> bytes:
        """``enc ‖ ciphertext`` (RFC 9180, section 6.1, base mode, empty AAD)."""
        return _suite(self.suite).encrypt(plain, self._public(), info)


@dataclass(frozen=True)
class OpeningKey:
    """The private half. ``raw`` is 32 bytes of X25519, for the hybrid preceded by the 64-byte
    ML-KEM seed.
    """

    suite: SuiteName
    raw: bytes = field(repr=False)

    @classmethod
    def generate(cls, suite: SuiteName, random: RandomBytes) -> OpeningKey:
        return cls(suite, random(32 if suite == CLASSIC else _MLKEM_SEED + 32))

    def _halves(self) -> tuple[mlkem.MLKEM768PrivateKey, X25519PrivateKey]:
        return (
            mlkem.MLKEM768PrivateKey.from_seed_bytes(self.raw[:_MLKEM_SEED]),
            X25519PrivateKey.from_private_bytes(self.raw[_MLKEM_SEED:]),
        )

    def _private(self) -> _PrivateKey:
        if self.suite == CLASSIC:
            return X25519PrivateKey.from_private_bytes(self.raw)
        return hpke.MLKEM768X25519PrivateKey(*self._halves())

    def seal_key(self) -> SealKey:
        if self.suite == CLASSIC:
            public = X25519PrivateKey.from_private_bytes(self.raw).public_key()
            return SealKey(self.suite, public.public_bytes(Encoding.Raw, PublicFormat.Raw))
        kem, curve = self._halves()
        return SealKey(
            self.suite,
            kem.public_key().public_bytes_raw()
            + curve.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw),
        )

    def open(self, sealed: bytes, info: bytes) -> bytes:
        try:
            return _suite(self.suite).decrypt(sealed, self._private(), info)
        except (InvalidTag, ValueError) as error:
            raise Damaged(
                "A sealed part does not open with this opening key.",
                "Check that it belongs to this key set.",
            ) from error
