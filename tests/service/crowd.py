"""A crowd of callers, as a program of its own: what it costs itself must not slow whoever measures
the others.

    python -m tests.service.crowd sign-in ADDRESS COUNT PASSWORD
    python -m tests.service.crowd follow ADDRESS COUNT RUN TOKEN

Prints JSON: how each of them was answered, or to how many the run was told.
"""

from __future__ import annotations

import asyncio
import json
import sys
from collections.abc import Coroutine

import httpx

_FOLLOWING = 8.0  # seconds


async def sign_in(address: str, count: int, password: str) -> list[int | str]:
    codes: list[int | str] = []

    async def one(client: httpx.AsyncClient, number: int) -> None:
        wanted = {
            "user": "harbour-admin" if number % 2 else f"nobody-{number}",
            "password": password,
            "token": True,
        }
        try:
            codes.append((await client.post(f"{address}/api/v1/session", json=wanted)).status_code)
        except httpx.HTTPError as error:
            codes.append(type(error).__name__)  # it had too many connections from one address

    async with _client(count) as client:
        await asyncio.gather(*(one(client, number) for number in range(count)))
    return codes


async def follow(address: str, count: int, run: str, token: str) -> int:
    """To how many of them the run was told."""
    told = 0

    async def one(client: httpx.AsyncClient) -> None:
        nonlocal told
        known = {"authorization": f"Bearer {token}"}
        try:
            async with client.stream(
                "GET", f"{address}/api/v1/runs/{run}/events", headers=known
            ) as stream:
                async for line in stream.aiter_lines():
                    told += line == "event: run"
        except httpx.HTTPError:
            return  # it had too many connections from one address

    async with _client(count) as client:
        following = [asyncio.create_task(one(client)) for _ in range(count)]
        await asyncio.wait(following, timeout=_FOLLOWING)
        for task in following:
            task.cancel()
        await asyncio.gather(*following, return_exceptions=True)
    return told


def _client(count: int) -> httpx.AsyncClient:
    return httpx.AsyncClient(
        trust_env=False, timeout=120, limits=httpx.Limits(max_connections=count)
    )


def main(what: str, address: str, count: str, *given: str) -> None:
    found: Coroutine[None, None, object] = (sign_in if what == "sign-in" else follow)(
        address, int(count), *given
    )
    sys.stdout.write(json.dumps(asyncio.run(found)))


if __name__ == "__main__":
    main(*sys.argv[1:])
