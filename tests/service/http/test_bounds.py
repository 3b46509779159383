"""What strangers and callers send cannot stop the service, nor fill it."""

from __future__ import annotations

import asyncio
import contextlib
import socket
import time
from collections.abc import Iterator
from contextlib import ExitStack

import httpx
import pytest
import uvicorn
import websockets
from starlette.types import Receive, Scope, Send

from fennox.service.http import bounds
from tests.places import loopback
from tests.service.running import Service, until

STRANGER = "127.0.0.9"
MIB = 1024 * 1024


def connected(service: Service, stack: ExitStack, sent: bytes = b"") -> socket.socket:
    made = stack.enter_context(
        socket.create_connection((service.host, service.port), 10, (STRANGER, 0))
    )
    made.sendall(sent)
    return made


def answer(made: socket.socket) -> bytes:
    """Until the far side closes."""
    made.settimeout(20)
    found = b""
    try:
        while block := made.recv(65536):
            found += block
    except ConnectionResetError:
        return found
    return found


def zeros(count: int) -> Iterator[bytes]:
    for _ in range(count):
        yield b"0" * MIB


@pytest.mark.parametrize("path", ["session", "stores", "systems/web-9/hand-ins", "runs/x/stop"])
def test_a_body_of_a_stranger_is_refused_before_it_is_read(service: Service, path: str) -> None:
    """Three hundred megabytes were read, and stayed in memory, before anybody asked who sent
    them.
    """
    before = service.resident()
    with ExitStack() as stack:
        head = [
            f"POST /api/v1/{path} HTTP/1.1",
            "host: localhost",
            "content-type: application/json",
            f"content-length: {300 * MIB}",
            "",
            "",
        ]
        told = answer(connected(service, stack, "\r\n".join(head).encode()))
    assert told.split(b"\r\n")[0] in (
        b"HTTP/1.1 401 Unauthorized",
        b"HTTP/1.1 413 Content Too Large",
        b"HTTP/1.1 413 Request Entity Too Large",
    ), told
    assert b"urn:fennox:" in told
    with pytest.raises(httpx.HTTPError):  # it does not say how much comes, and is cut off
        httpx.post(
            f"{service.address}/api/v1/session", content=zeros(300), trust_env=False
        ).raise_for_status()
    assert service.resident() < before + 50


def test_a_body_of_who_is_signed_in_is_bounded_too_and_one_of_its_route_by_that(
    service: Service,
) -> None:
    known = {"authorization": f"Bearer {service.token}"}
    large = httpx.post(
        f"{service.address}/api/v1/kinds",
        headers=known,
        json={"text": "x" * 2 * MIB},
        trust_env=False,
    )
    assert (large.status_code, large.json()["type"]) == (413, "urn:fennox:too-large")
    handed = httpx.post(
        f"{service.address}/api/v1/systems/web-9/hand-ins",
        headers=known,
        content=b"x" * 2 * MIB,
        trust_env=False,
    )
    assert handed.status_code == 404, "there is no such system; it was read"


@pytest.mark.long
def test_a_thousand_half_sent_requests_shut_nobody_out(service: Service, longest: float) -> None:
    with ExitStack() as stack:
        half = [connected(service, stack, b"GET /healthz HTTP/1.1\r\nhost:") for _ in range(1000)]
        slowest = 0.0
        for _ in range(20):
            begun = time.monotonic()
            assert (
                httpx.get(f"{service.address}/readyz", trust_env=False, timeout=60).status_code
                == 200
            )
            slowest = max(slowest, time.monotonic() - begun)
        assert slowest < longest, "nobody waits for the strangers"
        begun = time.monotonic()
        until(lambda: all(answer(one) == b"" for one in half), "all of them are closed", limit=60)
        assert time.monotonic() - begun < 40
    assert httpx.get(f"{service.address}/readyz", trust_env=False).status_code == 200


def test_a_connection_that_is_used_stays(service: Service) -> None:
    with service.client() as client:
        for _ in range(3):
            assert client.users()


async def echo(scope: Scope, receive: Receive, send: Send) -> None:
    """A site's worker, as far as a connection goes."""
    assert scope["type"] == "websocket"
    await receive()
    await send({"type": "websocket.accept"})
    while (message := await receive())["type"] == "websocket.receive":
        await send({"type": "websocket.send", "text": message["text"]})


async def test_the_line_of_a_sites_worker_stays_while_what_says_nothing_is_closed(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(bounds, "_HEADER", 0.2)
    listening = socket.create_server((loopback(), 0))  # who comes too early is waited for there
    host, port = listening.getsockname()[:2]
    server = uvicorn.Server(
        uvicorn.Config(echo, http=bounds.BoundedConnection, log_level="error", lifespan="off")
    )
    serving = asyncio.create_task(server.serve([listening]))
    async with websockets.connect(f"ws://{host}:{port}/", proxy=None) as line:
        reader, writer = await asyncio.open_connection(
            host, port
        )  # later than the line, and closed
        writer.write(b"GET /")
        with contextlib.suppress(ConnectionResetError):
            assert await reader.read() == b""
        writer.close()
        await line.send("still here")
        assert await line.recv() == "still here"
    server.should_exit = True
    await serving
    assert not bounds.BoundedConnection._open, "nobody is counted who is gone"
