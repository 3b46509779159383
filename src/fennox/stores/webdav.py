"""A WebDAV collection as a store (RFC 4918), by httpx."""

from __future__ import annotations

import ssl
from dataclasses import dataclass
from datetime import datetime
from email.utils import parsedate_to_datetime
from urllib.parse import quote, unquote, urlsplit

import httpx
from lxml import etree

from fennox.core.errors import FennoxError, NoRoom, StoreUnusable, Unreachable, WrongLogin
from fennox.core.names import ObjectName, printable
from fennox.links import tls
from fennox.links.base import Credential
from fennox.stores.addresses import StoreAddress
from fennox.stores.base import (
    TEMPORARY_PREFIX,
    Abilities,
    Entry,
    FoundObject,
    Keep,
    Space,
    Span,
    temporary_name,
)
from fennox.stores.remote import RemoteStore, cut_short, missing, taken

_CONNECT = 15.0  # seconds
_MAX_LISTING = 256 * 1024 * 1024  # bytes of one folder's listing
_PROPERTIES = (
    b'<?xml version="1.0"?><D:propfind'
    b' xmlns:D="DAV:"><D:prop><D:resourcetype/><D:getcontentlength/>'
    b"<D:getlastmodified/></D:prop></D:propfind>"
)
_QUOTA = (
    b'<?xml version="1.0"?><D:propfind'
    b' xmlns:D="DAV:"><D:prop><D:quota-available-bytes/><D:quota-used-bytes/></D:prop></D:propfind>'
)


@dataclass(frozen=True)
class _Resource:
    """One answer of a PROPFIND. ``path`` is absolute and decoded."""

    path: str
    folder: bool
    size: int | None
    modified: datetime | None


@dataclass
class _WebdavSession:
    client: httpx.AsyncClient

    async def close(self) -> None:
        await self.client.aclose()


class WebDavStore(RemoteStore[_WebdavSession]):
    """Objects are resources; a put is a hidden resource first, then a MOVE with ``Overwrite: F``
    (§9.9.3).
    """

    abilities = Abilities(ranges=True, retention=False, space=True, exclusive=True)

    def __init__(self, address: StoreAddress, credential: Credential, key: str | None) -> None:
        super().__init__(address)
        self._credential = credential
        self._key = key

    async def _open(self) -> _WebdavSession:
        verify: ssl.SSLContext | bool = True
        if self._address.scheme == "davs":
            verify = await tls.trusted_context(self._address.machine, self._key, _CONNECT)
        client = httpx.AsyncClient(
            base_url=(
                f"{'https' if self._address.scheme == 'davs' else 'http'}://{self._address.machine}"
            ),
            auth=_AnyAuth(self._credential.account, self._credential.password or ""),
            verify=verify,
            timeout=httpx.Timeout(self._limit, connect=_CONNECT),
            follow_redirects=False,
            trust_env=False,
        )
        return _WebdavSession(client)

    def _translated(self, error: Exception, doing: str) -> FennoxError | None:
        if isinstance(error, httpx.HTTPError):
            reason = printable(str(error))[:200] or type(error).__name__
            if "CERTIFICATE_VERIFY_FAILED" in reason:
                return tls.key_changed(
                    self._address.machine, "certificate", "another certificate", self._key or "none"
                )
            return Unreachable(
                f"Could not {doing}: {self.address}: {reason}.", "Try again; look at the network."
            )
        if isinstance(error, RuntimeError) and "closed" in str(error):
            return Unreachable(
                f"Could not {doing}: the connection to {self.address} was closed.", "Try again."
            )
        if isinstance(error, etree.XMLSyntaxError | ValueError):
            return StoreUnusable(
                f"{self.address} does not answer as a WebDAV server does.",
                "Check the address, above all its path.",
            )
        return None

    def _path(self, name: str) -> str:
        return quote(f"{self._address.path.rstrip('/')}/{name}")

    async def _ask(
        self,
        session: _WebdavSession,
        method: str,
        path: str,
        wanted: tuple[int, ...],
        **more: object,
    ) -> httpx.Response:
        answer = await session.client.request(method, path, **more)  # type: ignore[arg-type]
        self._judge(answer, method, wanted)
        return answer

    def _judge(self, answer: httpx.Response, method: str, wanted: tuple[int, ...]) -> None:
        code = answer.status_code
        if code in wanted:
            return
        said = f"{self.address} answers {code} to {method}."
        if code == 401:
            raise WrongLogin(
                f"{self.address} refuses the account {self._credential.account}.",
                "Check the login.",
            )
        if code == 507:
            raise NoRoom(f"No room left. {said}", "Free space or choose another store.")
        if code in (403, 423):
            raise StoreUnusable(f"Not permitted. {said}", "Give the store's account that right.")
        if code in (429, 502, 503, 504):
            raise Unreachable(said, "Try again; look at the far side.")
        raise StoreUnusable(said, "Check address and folder; look at the far side's log.")

    async def _put(
        self, session: _WebdavSession, name: ObjectName, data: bytes, retain_until: datetime | None
    ) -> None:
        path = self._path(name)
        if (await self._ask(session, "HEAD", path, (200, 204, 404, 405))).status_code in (200, 204):
            raise taken(name)
        temporary = f"{path.rpartition('/')[0]}/{temporary_name()}"
        put = await self._ask(session, "PUT", temporary, (200, 201, 204, 404, 409), content=data)
        if put.status_code in (404, 409):  # no parent collection (§9.7.1)
            await self._make_parents(session, name)
            await self._ask(session, "PUT", temporary, (200, 201, 204), content=data)
        try:
            target = f"{session.client.base_url.copy_with(raw_path=path.encode())}"
            headers = {"destination": target, "overwrite": "F"}
            moved = await self._ask(session, "MOVE", temporary, (201, 204, 412), headers=headers)
            if moved.status_code != 201:
                raise taken(name)
        except BaseException:
            await session.client.request("DELETE", temporary)
            raise

    async def _make_parents(self, session: _WebdavSession, name: ObjectName) -> None:
        """Create collections inside the store; the store's own must exist."""
        await self._properties(session, self._path(""), "0", _PROPERTIES)
        at = self._path("").rstrip("/")
        for step in name.split("/")[:-1]:
            at = f"{at}/{step}"
            # 405: already there (§9.3.1)
            made = await self._ask(session, "MKCOL", at, (201, 405, 500))
            if made.status_code == 500 and await self._gone(session, at):
                # otherwise another client created it at the same moment
                await self._ask(session, "MKCOL", at, (201, 405))

    async def _get(self, session: _WebdavSession, name: ObjectName, span: Span | None) -> bytes:
        if span is not None and span.length == 0:
            return b""
        headers = {"range": f"bytes={span.start}-{span.start + span.length - 1}"} if span else {}
        headers["accept-encoding"] = "identity"
        answer = await self._ask(
            session, "GET", self._path(name), (200, 206, 404, 416), headers=headers
        )
        if answer.status_code == 404:
            await self._properties(session, self._path(""), "0", _PROPERTIES)
            raise missing(name)
        data = answer.content
        if span is None:
            return data
        if answer.status_code == 200:  # the far side does not support ranges
            data = data[span.start : span.start + span.length]
        if answer.status_code == 416 or len(data) != span.length:
            raise cut_short(name, span)
        return data

    async def _properties(
        self, session: _WebdavSession, path: str, depth: str, asked: bytes
    ) -> list[_Resource]:
        headers = {"depth": depth, "content-type": "application/xml"}
        answer = await self._ask(
            session, "PROPFIND", path, (207, 404), content=asked, headers=headers
        )
        if answer.status_code == 404:
            raise StoreUnusable(
                f"The folder {unquote(path)} is not on the far side.", "Make it there."
            )
        if len(answer.content) > _MAX_LISTING:
            raise StoreUnusable(f"{self.address} lists without end.", "Use a folder of its own.")
        return [_resource(item) for item in _parsed(answer.content).findall("{DAV:}response")]

    async def _walk(self, session: _WebdavSession, prefix: str, keep: Keep) -> list[FoundObject]:
        root = unquote(self._path("")).rstrip("/")
        await self._properties(session, self._path(""), "0", _PROPERTIES)
        listed: list[FoundObject] = []
        folders = [prefix.rstrip("/")]
        while folders:
            folder = folders.pop()
            path = f"{root}/{folder}".rstrip("/")
            try:
                resources = await self._properties(session, quote(path) + "/", "1", _PROPERTIES)
            except StoreUnusable:
                if folder and await self._gone(session, quote(path)):
                    continue  # a prefix under which nothing has been put yet
                raise
            for item in resources:
                inner = item.path.rstrip("/").removeprefix(f"{root}/")
                if item.path.rstrip("/") == path:
                    continue
                if item.folder:
                    folders += (
                        [inner] if not inner.rsplit("/", 1)[-1].startswith(TEMPORARY_PREFIX) else []
                    )
                else:
                    listed += keep(inner, item.size or 0, item.modified)
        return listed

    async def _gone(self, session: _WebdavSession, path: str) -> bool:
        headers = {"depth": "0", "content-type": "application/xml"}
        answer = await self._ask(
            session, "PROPFIND", path, (207, 404), content=_PROPERTIES, headers=headers
        )
        return answer.status_code == 404

    async def _look(self, session: _WebdavSession, name: ObjectName) -> FoundObject | None:
        headers = {"depth": "0", "content-type": "application/xml"}
        answer = await self._ask(
            session, "PROPFIND", self._path(name), (207, 404), content=_PROPERTIES, headers=headers
        )
        if answer.status_code == 404:
            return None
        item = _resource(_parsed(answer.content).find("{DAV:}response"))
        return None if item.folder else FoundObject(name, item.size or 0, item.modified)

    async def _remove(self, session: _WebdavSession, name: ObjectName) -> None:
        await self._ask(session, "DELETE", self._path(name), (200, 204, 404))

    async def _room(self, session: _WebdavSession) -> Space | None:
        """RFC 4331; many servers do not report it."""
        headers = {"depth": "0", "content-type": "application/xml"}
        answer = await self._ask(
            session, "PROPFIND", self._path(""), (207,), content=_QUOTA, headers=headers
        )
        root = _parsed(answer.content)
        free, used = (
            root.findtext(".//{DAV:}quota-available-bytes"),
            root.findtext(".//{DAV:}quota-used-bytes"),
        )
        if not free or not free.isdigit():
            return None
        return Space(int(free), int(free) + int(used if used and used.isdigit() else 0))

    async def _entries(self, session: _WebdavSession, path: str) -> list[Entry]:
        where = f"{path.rstrip('/')}/"
        items = await self._properties(session, quote(where), "1", _PROPERTIES)
        return [
            Entry(printable(item.path.rstrip("/").rsplit("/", 1)[-1]), item.folder, item.size)
            for item in items
            if item.path.rstrip("/") != where.rstrip("/")
        ]

    async def _landed(self, session: _WebdavSession) -> str:
        await self._properties(session, self._path(""), "0", _PROPERTIES)
        return f"logged in as {self._credential.account}, in the collection {self._address.path}"


class _AnyAuth(httpx.Auth):
    """Basic (RFC 7617) over TLS; over plain HTTP only digest (RFC 7616) if the far side offers it,
    else basic.
    """

    requires_response_body = False

    def __init__(self, account: str, password: str) -> None:
        self._basic = httpx.BasicAuth(account, password)
        self._digest = httpx.DigestAuth(account, password)
        self._chosen: httpx.Auth | None = None

    def auth_flow(self, request: httpx.Request):  # type: ignore[no-untyped-def]  # as in httpx.Auth
        if self._chosen is not None:
            yield from self._chosen.auth_flow(request)
            return
        answer = yield request
        if answer.status_code != 401:
            return
        offers = answer.headers.get("www-authenticate", "").lower()
        self._chosen = (
            self._digest if "digest" in offers and request.url.scheme == "http" else self._basic
        )
        yield from self._chosen.auth_flow(request)


def _parsed(data: bytes) -> etree._Element:
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=True
    )
    return etree.fromstring(data, parser)


def _resource(item: etree._Element | None) -> _Resource:
    if item is None:
        raise ValueError("an answer without a resource")
    path = unquote(urlsplit(item.findtext("{DAV:}href") or "").path)
    length = item.findtext(".//{DAV:}getcontentlength")
    modified = item.findtext(".//{DAV:}getlastmodified")
    return _Resource(
        path=path,
        folder=item.find(".//{DAV:}resourcetype/{DAV:}collection") is not None,
        size=int(length) if length and length.isdigit() else None,
        modified=parsedate_to_datetime(modified) if modified else None,
    )
