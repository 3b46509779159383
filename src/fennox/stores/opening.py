"""From an address to the store behind it. Each protocol's library is imported when its first store is opened."""

from __future__ import annotations

from pathlib import Path

from fennox.core.errors import BadInput
from fennox.links.base import Credential
from fennox.stores.addresses import StoreAddress
from fennox.stores.base import Store
from fennox.stores.folder import FolderStore


def open_store(address: StoreAddress, credential: Credential | None, key: str | None) -> Store:
    """``key``: the accepted host key or certificate, or what a folder was mounted from (None: nothing accepted yet)."""
    if address.scheme == "file":
        return FolderStore(Path(address.path), key)
    if credential is None:
        raise BadInput(f"{address} needs a login.", "Add one with `fennox login add` and name it.", field="login")
    if address.scheme == "sftp":
        from fennox.stores.sftp import SftpStore

        return SftpStore(address, credential, key)
    if credential.private_key is not None:
        raise BadInput(f"{address} needs a login with a password, not a private key.", "Name another.", field="login")
    if address.scheme in ("ftp", "ftps"):
        from fennox.stores.ftp import FtpStore

        return FtpStore(address, credential, key)
    if address.scheme == "s3":
        from fennox.stores.s3 import S3Store

        return S3Store(address, credential, key)
    from fennox.stores.webdav import WebDavStore

    return WebDavStore(address, credential, key)
