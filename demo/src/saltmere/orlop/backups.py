"""Orlop's own backups: made, encrypted and opened again."""

from __future__ import annotations

import hashlib
import json
import secrets
import zlib
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from saltmere.orlop.inventory import VERSION
from saltmere.sftp_place import Refused

_SALT, _NONCE = 16, 12  # bytes


def made(content: dict[str, Any], history: str, passphrase: str, stamp: str) -> dict[str, bytes]:
    """The files of a backup by their names, the listing last."""
    held = {f"orlop-{stamp}-content.bin": json.dumps(content, sort_keys=True).encode()}
    if history:
        held[f"orlop-{stamp}-history.bin"] = history.encode()
    files = {
        name: _sealed(zlib.compress(data), passphrase) if passphrase else zlib.compress(data)
        for name, data in held.items()
    }
    lines = [f"orlop backup of version {VERSION}", f"encrypted {'yes' if passphrase else 'no'}"]
    lines += [f"{hashlib.sha256(data).hexdigest()}  {name}" for name, data in files.items()]
    files[f"orlop-{stamp}.info"] = ("\n".join(lines) + "\n").encode()
    return files


def opened(files: dict[str, bytes], passphrase: str) -> tuple[dict[str, Any], str]:
    """What a backup holds: its content and history. Raises Refused."""
    infos = [name for name in files if name.endswith(".info")]
    if len(infos) != 1:
        raise Refused(f"{len(infos)} backups lie there, and it must be one")
    head, encrypted, *listed = files[infos[0]].decode().splitlines()
    if head.rpartition(" ")[2] != VERSION:
        raise Refused(f"this is an {head}, and this deployment has version {VERSION}")
    found = {}
    for line in listed:
        digest, _, name = line.partition("  ")
        if name not in files:
            raise Refused(f"{name} is missing")
        if hashlib.sha256(files[name]).hexdigest() != digest:
            raise Refused(f"{name} is damaged")
        data = files[name]
        if encrypted == "encrypted yes":
            data = _unsealed(data, passphrase)
        found["history" if "-history." in name else "content"] = zlib.decompress(data)
    return json.loads(found["content"]), found.get("history", b"").decode()


def _sealed(data: bytes, passphrase: str) -> bytes:
    salt, nonce = secrets.token_bytes(_SALT), secrets.token_bytes(_NONCE)
    return salt + nonce + AESGCM(_key(passphrase, salt)).encrypt(nonce, data, None)


def _unsealed(data: bytes, passphrase: str) -> bytes:
    salt, nonce, rest = data[:_SALT], data[_SALT : _SALT + _NONCE], data[_SALT + _NONCE :]
    try:
        return AESGCM(_key(passphrase, salt)).decrypt(nonce, rest, None)
    except InvalidTag as error:
        raise Refused("the passphrase is not that of this backup") from error


def _key(passphrase: str, salt: bytes) -> bytes:
    return hashlib.scrypt(passphrase.encode(), salt=salt, n=1024, r=8, p=1, dklen=32)
