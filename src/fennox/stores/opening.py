"""From an address to the store behind it. Each protocol's library is imported when its first store
is opened.
"""

from __future__ import annotations

from pathlib import Path
from typing import assert_never

from fennox.core.errors import BadInput
from fennox.links.base import Credential
from fennox.stores.addresses import StoreAddress
from fennox.stores.base import Store
from fennox.stores.folder import FolderStore


def open_store(address: StoreAddress, credential: Credential | None, key: str | None) -> Store:
    """``key``: the accepted host key or certificate, or a folder's mount identity (None: nothing
    accepted yet).
    """
    if address.scheme == "file":
        return FolderStore(Path(address.path), key)
    if credential is None:
        raise BadInput(
            f"{address} needs a login.",
            "Add one with `fennox login add` and name it.",
            field="login",
        )
    if address.scheme != "sftp" and credential.private_key is not None:
        raise BadInput(
            f"{address} needs a login with a password, not a private key.",
            "Name another.",
            field="login",
        )
    match address.scheme:
        case "sftp":
            from fennox.stores.sftp import SftpStore

            return SftpStore(address, credential, key)
        case "ftp" | "ftps":
            from fennox.stores.ftp import FtpStore

            return FtpStore(address, credential, key)
        case "s3":
            from fennox.stores.s3 import S3Store

            return S3Store(address, credential, key)
        case "dav" | "davs":
            from fennox.stores.webdav import WebDavStore

            return WebDavStore(address, credential, key)
        case _:
            assert_never(address.scheme)
