"""Requests over HTTPS to a machine that is known by its certificate, by httpx."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import ssl
from collections.abc import AsyncGenerator, AsyncIterator

import httpx

from fennox.core.errors import FarSideFailed, KeyChanged, KeyUnknown, Unreachable, WrongLogin
from fennox.links.base import MAX_OUTPUT, Address, Answer, Credential


def fingerprint_of(certificate: bytes) -> str:
    """``SHA256:`` and base64 of the digest of the DER form, as host keys are written."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(certificate).digest()).decode().rstrip("=")


async def _offered(address: Address, limit: float) -> bytes:
    """The certificate the far side shows, before anything is said to it."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE  # only to look; the connection that talks trusts this one certificate alone
    try:
        async with asyncio.timeout(limit):
            _, writer = await asyncio.open_connection(address.host, address.port, ssl=context)
        shown: ssl.SSLObject = writer.get_extra_info("ssl_object")
        certificate = shown.getpeercert(binary_form=True)
        writer.transport.abort()
    except (OSError, TimeoutError) as error:
        raise Unreachable(
            f"{address} cannot be reached by HTTPS ({type(error).__name__}).", "Check address, port and network."
        ) from error
    if certificate is None:
        raise Unreachable(f"{address} shows no certificate.", "Check that it is the right port.")
    return certificate


async def connect(address: Address, credential: Credential, fingerprint: str | None, limit: float = 15) -> WebLink:
    """Look at the certificate, and trust exactly that one for every later connection."""
    certificate = await _offered(address, limit)
    offered = fingerprint_of(certificate)
    if fingerprint is None:
        raise KeyUnknown(
            f"{address} shows the certificate {offered}, which nobody has accepted yet.",
            "Compare it with the machine's own, then accept it.",
            fingerprint=offered,
        )
    if offered != fingerprint:
        raise KeyChanged(
            f"{address} shows the certificate {offered}; {fingerprint} was accepted for it.",
            "If the machine was reinstalled, accept the new one on purpose; if not, somebody may be in between.",
            fingerprint=offered,
            accepted=fingerprint,
        )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False  # the pinned certificate stands for the name
    context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN
    context.load_verify_locations(cadata=certificate)
    client = httpx.AsyncClient(
        base_url=f"https://{address}",
        verify=context,
        auth=(credential.account, credential.password or ""),
        timeout=httpx.Timeout(60, connect=limit),
        follow_redirects=False,
        trust_env=False,
    )
    return WebLink(client, address, offered)


class WebLink:
    """One machine's interface, with basic authentication (RFC 7617) over the pinned certificate."""

    def __init__(self, client: httpx.AsyncClient, address: Address, fingerprint: str) -> None:
        self._client = client
        self._address = address
        self.fingerprint = fingerprint

    async def request(self, method: str, path: str, *, json: object = None, limit: float = 60) -> Answer:
        kept = bytearray()
        try:
            async with self._client.stream(method, path, json=json, timeout=limit) as answer:
                async for block in answer.aiter_bytes():
                    kept += block
                    if len(kept) > MAX_OUTPUT:
                        raise FarSideFailed(f"{self._address} answers without end.", "Look at the machine.")
                return self._judged(answer.status_code, bytes(kept), path)
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

    async def upload(self, method: str, path: str, content: AsyncIterator[bytes], *, limit: float = 600) -> Answer:
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
        await self._client.aclose()

    def _judged(self, status: int, body: bytes, path: str) -> Answer:
        if status in (401, 403):
            raise WrongLogin(f"{self._address} refuses the login.", "Check the login's account and password.")
        if status >= 500:
            raise Unreachable(f"{self._address} answers {status} to {path}.", "Try again; look at the machine.")
        if status >= 400:
            raise FarSideFailed(f"{self._address} answers {status} to {path}.", "Look at the machine and its kind.")
        return Answer(status, body)

    def _cut(self, error: httpx.HTTPError) -> Unreachable:
        return Unreachable(
            f"The connection to {self._address} failed ({type(error).__name__}).",
            "Try again; look at the machine if it happens twice.",
        )
