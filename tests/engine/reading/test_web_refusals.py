"""What a machine says when it refuses a request: told, but for secrets."""

from __future__ import annotations

import json

import httpx
import pytest

from fennox.core.errors import FarSideFailed
from fennox.links.base import Address
from fennox.links.web import WebLink

PASSPHRASE, ONCE = "herring under the pier", "one-time-4711-of-an-offer"
ODD = 'gull  "ü" quay'  # as it stands, and as JSON writes it


async def refused(body: bytes, sent: object = None) -> str:
    transport = httpx.MockTransport(lambda _request: httpx.Response(409, content=body))
    client = httpx.AsyncClient(base_url="https://127.0.0.1:1", transport=transport)
    hidden = frozenset({PASSPHRASE, "short", ODD})
    link = WebLink(client, Address("127.0.0.1", 1), "SHA256:x", None, {}, hidden)
    with pytest.raises(FarSideFailed) as error:
        await link.request("POST", "/backups", json=sent)
    await link.close()
    return error.value.what


@pytest.mark.parametrize(
    ("body", "said"),
    [
        (b'{"refused": "a run is under way"}', ': {"refused": "a run is under way"}.'),
        (b"a run\r\n  is under way.\n", ": a run is under way."),
        (b"", "."),
        (b"no \x1b[31mred\x1b[0m here", r": no \x1b[31mred\x1b[0m here."),
        (b"x" * 5000, f": {'x' * 300}."),
        (f"not {PASSPHRASE}, not short".encode(), ": not …, not …."),
        (f"not {ODD}".encode(), ": not …."),
        (json.dumps({"not": ODD}).encode(), ': {"not": "…"}.'),
        (json.dumps({"not": ODD}, ensure_ascii=False).encode(), ': {"not": "…"}.'),
    ],
)
async def test_what_it_says_is_told_shortly_and_without_secrets(body: bytes, said: str) -> None:
    assert await refused(body) == f"127.0.0.1:1 answers 409 to /backups{said}"


async def test_what_was_sent_is_not_repeated() -> None:
    sent = {"place": {"secret": ONCE, "hosts": ["10.20.4.2"]}}
    said = await refused(f"{ONCE} does not open 10.20.4.2".encode(), sent)
    assert said == "127.0.0.1:1 answers 409 to /backups: … does not open 10.20.4.2."
