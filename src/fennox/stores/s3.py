"""A bucket of S3-compatible object storage as a store, by boto3."""

from __future__ import annotations

import asyncio
import ssl
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple, TypeVar
from urllib.parse import urlsplit

import boto3
import botocore.exceptions
from botocore.config import Config

from fennox.core.errors import FennoxError, NoRoom, StoreUnusable, Unreachable, WrongLogin
from fennox.core.names import ObjectName, printable
from fennox.links import tls
from fennox.links.base import Address, Credential
from fennox.stores.addresses import StoreAddress
from fennox.stores.base import Abilities, Entry, FoundObject, Keep, Space, Span
from fennox.stores.remote import RemoteStore, cut_short, missing, taken

_CONNECT = 15  # seconds
_ABSENT = {"NoSuchKey", "404", "NotFound"}
_REFUSED = {
    "InvalidAccessKeyId",
    "SignatureDoesNotMatch",
    "ExpiredToken",
    "AuthorizationHeaderMalformed",
}
_NO_LOCKS = {"ObjectLockConfigurationNotFoundError", "NotImplemented", "MethodNotAllowed"}
T = TypeVar("T")


@dataclass
class _S3Session:
    """boto3 blocks, so every call runs in a thread; its clients may be shared by threads."""

    client: Any

    async def call(self, act: Callable[[], T]) -> T:
        return await asyncio.to_thread(act)

    async def close(self) -> None:
        await asyncio.to_thread(self.client.close)


class _Head(NamedTuple):
    """An object's metadata. ``size`` in bytes."""

    size: int
    modified: datetime
    locked_until: datetime | None


class S3Store(RemoteStore[_S3Session]):
    """Objects are objects. ``If-None-Match: *`` keeps a put from replacing; a bucket may lock
    objects until a date.
    """

    abilities = Abilities(ranges=True, retention=True, space=False, exclusive=True)

    def __init__(self, address: StoreAddress, credential: Credential, key: str | None) -> None:
        super().__init__(address)
        self._credential = credential
        self._key = key
        self._bucket = address.host
        self._prefix = f"{address.path.strip('/')}/" if address.path.strip("/") else ""
        self._certificate: Path | None = None

    async def _open(self) -> _S3Session:
        endpoint = self._address.options.get("endpoint")
        verify = await self._trust(endpoint)

        def made() -> Any:
            return boto3.session.Session().client(
                "s3",
                endpoint_url=endpoint,
                region_name=self._address.options.get("region", "us-east-1"),
                aws_access_key_id=self._credential.account,
                aws_secret_access_key=self._credential.password or "",
                verify=verify,
                config=Config(
                    connect_timeout=_CONNECT,
                    read_timeout=60,
                    retries={"max_attempts": 3, "mode": "standard"},
                    s3={
                        "addressing_style": self._address.options.get(
                            "style", "path" if endpoint else "virtual"
                        )
                    },
                    request_checksum_calculation="when_required",
                    response_checksum_validation="when_required",
                    proxies={},
                ),
            )

        session = _S3Session(await asyncio.to_thread(made))
        if self.lock is not None:
            await self._must_lock(session)
        return session

    async def _must_lock(self, session: _S3Session) -> None:
        try:
            answer = await session.call(
                lambda: session.client.get_object_lock_configuration(Bucket=self._bucket)
            )
        except botocore.exceptions.ClientError as error:
            if error.response.get("Error", {}).get("Code", "") not in _NO_LOCKS:
                raise
            answer = {}
        if answer.get("ObjectLockConfiguration", {}).get("ObjectLockEnabled") != "Enabled":
            raise StoreUnusable(
                f"The bucket {self._bucket} does not lock objects.",
                "Make a bucket with object lock, or leave lock-days out of the address.",
            )

    async def _trust(self, endpoint: str | None) -> str | bool:
        """The trust anchor for certificates: this machine's authorities, or the one accepted
        certificate.
        """
        if endpoint is None or self._key == tls.AUTHORITY:
            authorities = ssl.get_default_verify_paths().cafile
            return authorities if authorities is not None else True
        parts = urlsplit(endpoint)
        if parts.scheme == "http" or parts.hostname is None:
            return True
        machine = Address(parts.hostname, parts.port or 443)
        certificate = await tls.offered(machine, _CONNECT)
        tls.judge(machine, certificate, self._key)
        return await asyncio.to_thread(self._kept, certificate)

    def _kept(self, certificate: bytes) -> str:
        with tempfile.NamedTemporaryFile(
            "w", prefix="fennox-", suffix=".pem", delete=False
        ) as file:
            file.write(ssl.DER_cert_to_PEM_cert(certificate))
        self._certificate = Path(file.name)
        return file.name

    async def close(self) -> None:
        await super().close()
        if self._certificate is not None:
            self._certificate.unlink(missing_ok=True)
            self._certificate = None

    def _translated(self, error: Exception, doing: str) -> FennoxError | None:
        if isinstance(error, botocore.exceptions.ClientError):
            code = error.response.get("Error", {}).get("Code", "")
            status = int(error.response.get("ResponseMetadata", {}).get("HTTPStatusCode", 0))
            said = f"{self.address} answers {printable(code)} ({status})."
            if code in _REFUSED:
                return WrongLogin(
                    f"Could not {doing}. {said}", "Check the login's account and password."
                )
            if code == "NoSuchBucket":
                return StoreUnusable(
                    f"There is no bucket {self._bucket}. {said}", "Make it, or check the address."
                )
            if code in ("AccessDenied", "403"):
                return StoreUnusable(
                    f"Not permitted to {doing}. {said}", "Give the store's account that right."
                )
            if code in ("QuotaExceeded", "InsufficientStorage") or status == 507:
                return NoRoom(
                    f"No room left to {doing}. {said}", "Free space or choose another store."
                )
            if status >= 500 or code in ("SlowDown", "RequestTimeout"):
                return Unreachable(f"Could not {doing}. {said}", "Try again.")
            return StoreUnusable(f"Could not {doing}. {said}", "Look at the bucket's settings.")
        if isinstance(error, botocore.exceptions.SSLError):
            return StoreUnusable(
                f"The certificate of {self.address} is not trusted for its name.",
                "Accept it by the name it carries, or trust this machine's authorities with the key"
                " 'authority'.",
            )
        if isinstance(error, botocore.exceptions.BotoCoreError | OSError):
            reason = printable(str(error))[:200]
            return Unreachable(f"Could not {doing}: {reason}.", "Try again; look at the network.")
        return None

    async def _put(
        self, session: _S3Session, name: ObjectName, data: bytes, retain_until: datetime | None
    ) -> None:
        lock: dict[str, object] = {}
        if retain_until is not None:
            lock = {
                "ObjectLockMode": "COMPLIANCE",
                "ObjectLockRetainUntilDate": retain_until,
                "ChecksumAlgorithm": "SHA256",  # the interface wants one with a lock
            }
        put = session.client.put_object
        try:
            await session.call(
                lambda: put(
                    Bucket=self._bucket, Key=self._prefix + name, Body=data, IfNoneMatch="*", **lock
                )
            )
        except botocore.exceptions.ClientError as error:
            code = error.response.get("Error", {}).get("Code", "")
            if code in ("PreconditionFailed", "412"):
                raise taken(name) from error
            if code != "NotImplemented":
                raise
            if await self._look(session, name) is not None:
                raise taken(name) from error
            await session.call(
                lambda: put(Bucket=self._bucket, Key=self._prefix + name, Body=data, **lock)
            )

    async def _get(self, session: _S3Session, name: ObjectName, span: Span | None) -> bytes:
        if span is not None and span.length == 0:
            return b""
        ranged = {"Range": f"bytes={span.start}-{span.start + span.length - 1}"} if span else {}

        def read() -> bytes:
            answer = session.client.get_object(
                Bucket=self._bucket, Key=self._prefix + name, **ranged
            )
            with answer["Body"] as body:
                data: bytes = body.read()
            return data

        try:
            data = await session.call(read)
        except botocore.exceptions.ClientError as error:
            code = error.response.get("Error", {}).get("Code", "")
            if code in _ABSENT:
                raise missing(name) from error
            if code in ("InvalidRange", "416") and span is not None:
                raise cut_short(name, span) from error
            raise
        if span is not None and len(data) != span.length:
            raise cut_short(name, span)
        return data

    async def _walk(self, session: _S3Session, prefix: str, keep: Keep) -> list[FoundObject]:
        def listed() -> list[FoundObject]:
            pages = session.client.get_paginator("list_objects_v2").paginate(
                Bucket=self._bucket, Prefix=self._prefix + prefix
            )
            every: list[FoundObject] = []
            for page in pages:
                for item in page.get("Contents", []):
                    every += keep(
                        item["Key"].removeprefix(self._prefix), item["Size"], item["LastModified"]
                    )
            return every

        return await session.call(listed)

    async def _head(self, session: _S3Session, name: ObjectName) -> _Head | None:
        try:
            head = await session.call(
                lambda: session.client.head_object(Bucket=self._bucket, Key=self._prefix + name)
            )
        except botocore.exceptions.ClientError as error:
            if error.response.get("Error", {}).get("Code", "") in _ABSENT:
                return None
            raise
        return _Head(
            head["ContentLength"], head["LastModified"], head.get("ObjectLockRetainUntilDate")
        )

    async def _look(self, session: _S3Session, name: ObjectName) -> FoundObject | None:
        head = await self._head(session, name)
        return FoundObject(name, head.size, head.modified) if head is not None else None

    async def _remove(self, session: _S3Session, name: ObjectName) -> None:
        """In a bucket with locks, a plain delete only hides: remove every version, or none if one
        is locked.
        """
        key = self._prefix + name
        if self.lock is None:
            await session.call(lambda: session.client.delete_object(Bucket=self._bucket, Key=key))
            return
        until = await self._locked(session, name)
        if until is not None and until > datetime.now(UTC):
            raise StoreUnusable(
                f"{name} is locked until {until:%Y-%m-%d %H:%M} UTC.", "A later sweep removes it."
            )

        def remove_all() -> None:
            found = session.client.list_object_versions(Bucket=self._bucket, Prefix=key)
            for item in [*found.get("Versions", []), *found.get("DeleteMarkers", [])]:
                if item["Key"] == key:
                    session.client.delete_object(
                        Bucket=self._bucket, Key=key, VersionId=item["VersionId"]
                    )

        await session.call(remove_all)

    async def _locked(self, session: _S3Session, name: ObjectName) -> datetime | None:
        head = await self._head(session, name)
        until = head.locked_until if head is not None else None
        return until.astimezone(UTC) if until is not None else None

    async def _extend(self, session: _S3Session, name: ObjectName, until: datetime) -> None:
        keep = session.client.put_object_retention
        lock = {"Mode": "COMPLIANCE", "RetainUntilDate": until}
        await session.call(
            lambda: keep(Bucket=self._bucket, Key=self._prefix + name, Retention=lock)
        )

    async def _room(self, session: _S3Session) -> Space | None:
        return None  # buckets have no size

    async def _entries(self, session: _S3Session, path: str) -> list[Entry]:
        prefix = f"{path.strip('/')}/" if path.strip("/") else ""

        def listed() -> list[Entry]:
            pages = session.client.get_paginator("list_objects_v2").paginate(
                Bucket=self._bucket, Prefix=prefix, Delimiter="/"
            )
            every: list[Entry] = []
            for page in pages:
                every += [
                    Entry(printable(item["Prefix"].removeprefix(prefix).rstrip("/")), True, None)
                    for item in page.get("CommonPrefixes", [])
                ]
                every += [
                    Entry(printable(item["Key"].removeprefix(prefix)), False, item["Size"])
                    for item in page.get("Contents", [])
                    if item["Key"] != prefix
                ]
            return every

        return await session.call(listed)

    async def _landed(self, session: _S3Session) -> str:
        await session.call(lambda: session.client.list_objects_v2(Bucket=self._bucket, MaxKeys=1))
        where = f"under {self._prefix}" if self._prefix else "at its top"
        return f"signed as {self._credential.account}, in the bucket {self._bucket} {where}"
