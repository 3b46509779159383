"""What the database must not tell in clear: sealed under a key in a file outside of it."""

from __future__ import annotations

import hmac
import os
import secrets
import stat
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from fennox.core.errors import Damaged, MendSettings

NAME = "service.key"


class KeyFile:
    """AES-256-GCM under the service key; ``place`` (table, row, field) is authenticated, so nothing can be moved."""

    def __init__(self, key: bytes) -> None:
        self._cipher = AESGCM(key)
        self._key = key

    def tag(self, data: bytes, place: str) -> str:
        """A digest that only this service can make (HMAC, RFC 2104), under a key for that ``place`` alone."""
        key = hmac.digest(self._key, place.encode(), "sha256")
        return hmac.new(key, data, "sha256").hexdigest()

    def seal(self, plain: bytes, place: str) -> bytes:
        nonce = secrets.token_bytes(12)
        return nonce + self._cipher.encrypt(nonce, plain, place.encode())

    def open(self, sealed: bytes, place: str) -> bytes:
        try:
            return self._cipher.decrypt(sealed[:12], sealed[12:], place.encode())
        except (InvalidTag, ValueError) as error:
            raise Damaged(
                f"The {place.split('|')[0]} does not open under the service's key file.",
                "Use the key file that belongs to this database.",
            ) from error


def load(folder: Path) -> KeyFile:
    """Read the key file, or make it when the service starts for the first time."""
    path = folder / NAME
    if not path.exists():
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        try:
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            return load(folder)  # another process of this service was quicker
        with os.fdopen(handle, "wb") as file:
            file.write(secrets.token_bytes(32))
            file.flush()
            os.fsync(file.fileno())
    if stat.S_IMODE(folder.stat().st_mode) & 0o077:
        raise MendSettings(f"Others may enter {folder}, where the service's key lies.", f"Run: chmod 700 {folder}")
    if stat.S_IMODE(path.stat().st_mode) & 0o077:
        raise MendSettings(f"Others may read {path}.", f"Run: chmod 600 {path}")
    key = path.read_bytes()
    if len(key) != 32:
        raise MendSettings(f"{path} is not a key file of 32 bytes.", "Put the right file back.")
    return KeyFile(key)
