"""HTTPS requests to a machine with a pinned certificate, with httpx."""

from __future__ import annotations

from collections.abc import AsyncGenerator, AsyncIterator, Iterator, Mapping
from datetime import datetime
from json import dumps

import httpx

from fennox.core.errors import FarSideFailed, Unreachable, WrongLogin
from fennox.core.names import printable
from fennox.links import tls
from fennox.links.base import MAX_OUTPUT, Address, Answer, Credential, Dial, SecondLink
from fennox.links.dialling import DialledTransport


async def connect(
    address: Address,
    credential: Credential,
    fingerprint: str | None,
    limit: float = 15,
    dial: Dial | None = None,
    secrets: Mapping[str, str | None] | None = None,
) -> WebLink:
    """Fetch the certificate, and trust exactly that one for every later connection."""
    certificate = await tls.offered(address, limit, dial)
    tls.judge(address, certificate, fingerprint)
    context = tls.pinned_context(certificate)
    client = httpx.AsyncClient(
        base_url=f"https://{address}",
        verify=context,
        transport=DialledTransport(dial, context) if dial is not None else None,
        auth=(credential.account, credential.password or ""),
        timeout=httpx.Timeout(60, connect=limit),
        follow_redirects=False,
        trust_env=False,
    )
    fingerprint, until = tls.fingerprint_of(certificate), tls.ends(certificate)
    known = secrets or {}
    hidden = {credential.password, *known.values()} - {None, ""}
    return WebLink(client, address, fingerprint, until, known, frozenset(filter(None, hidden)))


_SAID = 300  # characters of what a machine says with a refusal
_MAY_BE_SECRET = 12  # characters; of what is sent, so long a text is not shown when it comes back


class WebLink:
    """One machine's interface, with basic authentication (RFC 7617) over the pinned certificate.
    ``hidden``: what no message repeats, whatever the machine says.
    """

    def __init__(
        self,
        client: httpx.AsyncClient,
        address: Address,
        fingerprint: str,
        until: datetime | None,
        secrets: Mapping[str, str | None],
        hidden: frozenset[str],
    ) -> None:
        self._client = client
        self._address = address
        self.fingerprint = fingerprint
        self.until = until
        self.secrets = secrets
        self._hidden = hidden
        self.beside: SecondLink | None = None

    async def request(
        self, method: str, path: str, *, json: object = None, limit: float = 60
    ) -> Answer:
        kept = bytearray()
        try:
            async with self._client.stream(method, path, json=json, timeout=limit) as answer:
                async for block in answer.aiter_bytes():
                    kept += block
                    if len(kept) > MAX_OUTPUT:
                        raise FarSideFailed(
                            f"{self._address} answers without end.", "Check the machine."
                        )
                return self._judged(answer.status_code, bytes(kept), path, json)
        except httpx.HTTPError as error:
            raise self._cut(error) from error

    async def download(self, method: str, path: str) -> AsyncGenerator[bytes, None]:
        try:
            async with self._client.stream(method, path) as answer:
                self._judged(answer.status_code, b"", path)
                async for block in answer.aiter_bytes():
                    yield block
        except httpx.HTTPError as error:
            raise self._cut(error) from error

    async def upload(
        self, method: str, path: str, content: AsyncIterator[bytes], *, limit: float = 600
    ) -> Answer:
        try:
            answer = await self._client.request(
                method,
                path,
                content=content,
                timeout=limit,
                headers={"content-type": "application/octet-stream"},
            )
        except httpx.HTTPError as error:
            raise self._cut(error) from error
        return self._judged(answer.status_code, answer.content[:MAX_OUTPUT], path)

    async def close(self) -> None:
        if self.beside is not None:
            await self.beside.close()
        await self._client.aclose()

    def _judged(self, status: int, body: bytes, path: str, sent: object = None) -> Answer:
        if status in (401, 403):
            raise WrongLogin(
                f"{self._address} refuses the login.", "Check the login's account and password."
            )
        if status >= 500:
            raise Unreachable(
                f"{self._address} answers {status} to {path}.", "Try again; check the machine."
            )
        if status >= 400:
            said = self._said(body, sent)
            raise FarSideFailed(
                f"{self._address} answers {status} to {path}{f': {said}' if said else ''}.",
                "Check the machine and its kind.",
            )
        return Answer(status, body)

    def _said(self, body: bytes, sent: object) -> str:
        """The beginning of an answer, without secrets that were sent."""
        text = body.decode("utf-8", "replace")
        hidden = {*self._hidden, *(one for one in _texts(sent) if len(one) >= _MAY_BE_SECRET)}
        written = {form for secret in hidden for form in _forms(secret)}
        for secret in sorted(written, key=len, reverse=True):
            text = text.replace(secret, "…")
        return printable(" ".join(text.split())[:_SAID]).rstrip(".")

    def _cut(self, error: httpx.HTTPError) -> Unreachable:
        return Unreachable(
            f"The connection to {self._address} failed ({type(error).__name__}).",
            "Try again; check the machine if it happens again.",
        )


def _forms(secret: str) -> Iterator[str]:
    """As it stands, and as JSON may write it."""
    yield secret
    yield dumps(secret)[1:-1]
    yield dumps(secret, ensure_ascii=False)[1:-1]


def _texts(value: object) -> Iterator[str]:
    """Every text in a JSON value."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        yield from (text for inner in value.values() for text in _texts(inner))
    elif isinstance(value, list):
        yield from (text for inner in value for text in _texts(inner))
