"""A key that never leaves a PKCS #11 token (OASIS PKCS #11 3.0) and seals the service's keys on
disk. A copy of the disk is useless, and a thief of disk and token still needs the PIN. A running
service holds its keys in memory, because a token is too slow for every secret.
"""

from __future__ import annotations

import secrets
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pkcs11
from pkcs11 import Attribute, GCMParams, KeyType, Mechanism, ObjectClass, Session
from pkcs11.exceptions import NoSuchKey, NoSuchToken, PinIncorrect, PinLocked, PKCS11Error

from fennox.core.errors import Damaged, MendSettings

_NONCE = 12  # bytes (NIST SP 800-38D, section 5.2.1.1)
_ABOUT = b"fennox service.key"


@dataclass(frozen=True)
class Cryptoki:
    """``label``: of the token; ``key``: label of its AES key, created if missing."""

    module: Path
    label: str
    pin_file: Path
    key: str

    def wrap(self, keys: bytes) -> bytes:
        nonce = secrets.token_bytes(_NONCE)
        with self._session() as session:
            sealed = self._key(session, make=True).encrypt(
                keys, mechanism=Mechanism.AES_GCM, mechanism_param=GCMParams(nonce, _ABOUT)
            )
        return nonce + bytes(sealed)

    def unwrap(self, data: bytes) -> bytes:
        with self._session() as session:
            key = self._key(session, make=False)
            try:
                return bytes(
                    key.decrypt(
                        data[_NONCE:],
                        mechanism=Mechanism.AES_GCM,
                        mechanism_param=GCMParams(data[:_NONCE], _ABOUT),
                    )
                )
            except PKCS11Error as error:
                raise Damaged(
                    f"The sealed key file does not open under the key {self.key} of the token"
                    f" {self.label}.",
                    "Put the right file back, or the token that belongs to it.",
                ) from error

    def _key(self, session: Session, *, make: bool) -> Any:
        try:
            found = session.get_key(
                object_class=ObjectClass.SECRET_KEY, key_type=KeyType.AES, label=self.key
            )
        except NoSuchKey as error:
            if not make:
                raise MendSettings(
                    f"The token {self.label} holds no AES key {self.key}.",
                    "Use the token that belongs to this service.",
                ) from error
            found = session.generate_key(
                KeyType.AES,
                256,
                label=self.key,
                store=True,
                template={Attribute.SENSITIVE: True, Attribute.EXTRACTABLE: False},
            )
        return found

    @contextmanager
    def _session(self) -> Iterator[Session]:
        """A session signed in with the PIN, which is tried once: tokens lock after a few wrong
        ones.
        """
        try:
            if stat.S_IMODE(self.pin_file.stat().st_mode) & 0o077:
                raise MendSettings(
                    f"Others may read {self.pin_file}.", f"Run: chmod 600 {self.pin_file}"
                )
            pin = self.pin_file.read_text().split("\n")[0]
        except (OSError, UnicodeDecodeError) as error:
            raise MendSettings(
                f"{self.pin_file} cannot be read as the PIN of the token.",
                "Write the PIN into its first line.",
            ) from error
        try:
            token = pkcs11.lib(str(self.module)).get_token(token_label=self.label)
            with token.open(rw=True, user_pin=pin) as session:
                yield session
        except NoSuchToken as error:
            raise MendSettings(
                f"There is no token {self.label}.", f"Is it plugged in? {self.module} looks for it."
            ) from error
        except (PinIncorrect, PinLocked) as error:
            raise MendSettings(
                f"The token {self.label} refuses the PIN of {self.pin_file}.",
                "Correct it before you start the service again.",
            ) from error
        except (PKCS11Error, RuntimeError) as error:
            reason = str(error) or type(error).__name__
            raise MendSettings(
                f"The token {self.label} cannot be used: {reason}.",
                f"Is {self.module} its PKCS #11 module?",
            ) from error
