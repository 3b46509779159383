"""Sealing secrets in the database under keys stored outside it. The newest key seals; earlier ones
still open what they sealed. Keys are in ``service.key`` in the state folder or, by settings, in a
credential from systemd (systemd.exec(5)), or in ``service.key.sealed`` under a key of a PKCS #11
token.
"""

from __future__ import annotations

import hmac
import os
import secrets
import stat
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from fennox.core.errors import Damaged, MendSettings

NAME = "service.key"
SEALED = "service.key.sealed"
_KEY = 32  # bytes
_MOST = 4  # keys per file
_CREDENTIAL = "credential:"


class Wrapping(Protocol):
    """Protects the keys against theft of the file."""

    def wrap(self, keys: bytes) -> bytes: ...

    def unwrap(self, data: bytes) -> bytes: ...


class _InClear:
    def wrap(self, keys: bytes) -> bytes:
        return keys

    def unwrap(self, data: bytes) -> bytes:
        return data


@dataclass(frozen=True)
class _Ring:
    """Keys, newest first, and a stamp to detect changes."""

    keys: tuple[bytes, ...]
    version: object


class KeyFile:
    """AES-256-GCM; authenticates ``place`` (table, row, field), so that values cannot be moved.

    A key file replaced while a process runs is reloaded before anything is sealed or opened.
    """

    def __init__(self, path: Path, wrapping: Wrapping | None = None) -> None:
        self._path = path
        self._wrapping = wrapping or _InClear()
        self._ring = _ring(path, self._wrapping)

    def _keys(self) -> tuple[bytes, ...]:
        if _version_if_there(self._path, self._ring.version) != self._ring.version:
            self._ring = _ring(self._path, self._wrapping)
        return self._ring.keys

    def add_key(self) -> None:
        """Add a new key in front, used for all sealing from now on."""
        self._replace(lambda keys: (secrets.token_bytes(_KEY), *keys)[:_MOST])

    def keep_newest(self) -> None:
        """Forget the keys before the newest. Everything sealed under them must have been resealed
        before.
        """
        self._replace(lambda keys: keys[:1])

    def _replace(self, change: Callable[[tuple[bytes, ...]], tuple[bytes, ...]]) -> None:
        """Replace the file atomically."""
        keys = change(_ring(self._path, self._wrapping).keys)
        _put(self._path, self._wrapping.wrap(b"".join(keys)))

    @property
    def count(self) -> int:
        """Number of keys; more than one after a rotation."""
        return len(self._keys())

    def tag(self, data: bytes, place: str) -> str:
        """A digest only this service can compute (HMAC, RFC 2104), under a key for that ``place``
        alone.
        """
        key = hmac.digest(self._keys()[0], place.encode(), "sha256")
        return hmac.new(key, data, "sha256").hexdigest()

    def seal(self, plain: bytes, place: str) -> bytes:
        nonce = secrets.token_bytes(12)
        return nonce + AESGCM(self._keys()[0]).encrypt(nonce, plain, place.encode())

    def open(self, sealed: bytes, place: str) -> bytes:
        return self._opened(sealed, place, self._keys())

    def opens_by_newest(self, sealed: bytes, place: str) -> bool:
        try:
            self._opened(sealed, place, self._keys()[:1])
        except Damaged:
            return False
        return True

    def _opened(self, sealed: bytes, place: str, keys: tuple[bytes, ...]) -> bytes:
        for key in keys:
            try:
                return AESGCM(key).decrypt(sealed[:12], sealed[12:], place.encode())
            except (InvalidTag, ValueError):
                continue
        raise Damaged(
            f"The {place.split('|')[0]} does not open under the service's key file.",
            "Use the key file that belongs to this database.",
        )


def load(
    folder: Path,
    keeper: str = "file",
    credentials: Path | None = None,
    wrapping: Wrapping | None = None,
) -> KeyFile:
    """The keys, created at the service's first start. ``keeper``: ``file``, or ``credential:NAME``
    for one in systemd's folder ``credentials``. ``wrapping``: the token under whose key they are
    sealed in the folder.
    """
    if keeper.startswith(_CREDENTIAL):
        path = _credential(keeper.removeprefix(_CREDENTIAL), credentials)
        return KeyFile(path)
    here, other = (NAME, SEALED) if wrapping is None else (SEALED, NAME)
    path = folder / here
    if not path.exists():
        if (folder / other).exists():
            change = "seal" if wrapping is not None else "unseal"
            raise MendSettings(
                f"{folder} holds {other}, and no {here}.",
                f"Run: fennox service-key {change}, with the settings of the token; or set"
                " key_keeper as it was.",
            )
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        keys = secrets.token_bytes(_KEY)
        try:
            _write_new(path, keys if wrapping is None else wrapping.wrap(keys))
        except FileExistsError:
            # another process of this service was faster
            return load(folder, keeper, credentials, wrapping)
    if stat.S_IMODE(folder.stat().st_mode) & 0o077:
        raise MendSettings(
            f"Others may enter {folder}, where the service's key lies.", f"Run: chmod 700 {folder}"
        )
    return KeyFile(path, wrapping)


def seal(folder: Path, wrapping: Wrapping) -> None:
    """Seal the keys under a token's key. The plain file is removed once the sealed one has been
    opened.
    """
    _move(folder / NAME, _InClear(), folder / SEALED, wrapping)


def unseal(folder: Path, wrapping: Wrapping) -> None:
    """Write the keys back into a plain file, as before giving up a token."""
    _move(folder / SEALED, wrapping, folder / NAME, _InClear())


def _move(before: Path, opens: Wrapping, after: Path, seals: Wrapping) -> None:
    if not before.exists():
        raise MendSettings(
            f"{before} is not there.",
            "Is the state folder the right one, and is it not done already?",
        )
    keys = _ring(before, opens).keys
    _put(after, seals.wrap(b"".join(keys)))
    if _ring(after, seals).keys != keys:
        raise Damaged(
            f"{after.name} does not open to what was sealed in it.",
            f"{before.name} stays as it was.",
        )
    before.unlink()


def _credential(name: str, folder: Path | None) -> Path:
    path = (folder or Path("/nowhere")) / name
    if folder is None or "/" in name or not path.is_file():
        raise MendSettings(
            f"systemd hands no credential {name} to this process.",
            f"Write LoadCredentialEncrypted={name} into its unit; docs/security.md shows how it is"
            " made.",
        )
    return path


def _version(path: Path) -> object:
    found = path.stat()
    return found.st_mtime_ns, found.st_ino, found.st_size


def _version_if_there(path: Path, known: object) -> object:
    """A file that disappears changes nothing for running processes."""
    try:
        return _version(path)
    except FileNotFoundError:
        return known


def _ring(path: Path, wrapping: Wrapping) -> _Ring:
    version = _version(path)
    if stat.S_IMODE(path.stat().st_mode) & 0o077:
        raise MendSettings(f"Others may read {path}.", f"Run: chmod 600 {path}")
    data = wrapping.unwrap(path.read_bytes())
    if not data or len(data) % _KEY or len(data) > _KEY * _MOST:
        raise MendSettings(
            f"{path} is not a key file of 32 bytes a key.", "Put the right file back."
        )
    return _Ring(tuple(data[at : at + _KEY] for at in range(0, len(data), _KEY)), version)


def _write_new(path: Path, data: bytes) -> None:
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())


def _put(path: Path, data: bytes) -> None:
    fresh = path.with_name(f"{path.name}.new")
    fresh.unlink(missing_ok=True)  # left by a change that was killed before it took effect
    _write_new(fresh, data)
    fresh.replace(path)
    handle = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)  # so that the new file survives a crash
    finally:
        os.close(handle)
