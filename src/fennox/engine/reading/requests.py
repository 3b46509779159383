"""Documents from an HTTP interface: one request, or start, poll until it is final, and fetch."""

from __future__ import annotations

import hashlib
import json
from collections.abc import AsyncGenerator, Awaitable, Callable, Mapping
from contextlib import aclosing
from urllib.parse import urlsplit

import anyio

from fennox.core.errors import FarSideFailed, MendSettings
from fennox.core.evidence.pushes import algorithm_of
from fennox.core.kinds import expressions
from fennox.core.kinds.actions import Ask, EachAsked, Request, Until
from fennox.core.kinds.expressions import filled, filled_json, named_in_json
from fennox.core.names import printable
from fennox.links.base import Web


async def names_asked(web: Web, each: EachAsked, values: Mapping[str, str]) -> list[str]:
    """The names that the interface lists, each once."""
    body = await _send(web, each.request, values)
    drawn = expressions.json_values(each.jsonpath, answered_json(body, each.request.path))
    return list(dict.fromkeys(drawn))


async def asked(web: Web, ask: Ask, values: Mapping[str, str]) -> AsyncGenerator[bytes, None]:
    """One request, or start → poll until → fetch."""
    values = dict(values)
    if ask.start is not None:
        answer = await _send(web, ask.start, values)
        if ask.job is not None:
            values["job"] = one_value(ask.job, answer, "the answer to the start of the export")
    told: tuple[str, str] | None = None
    if ask.poll is not None and ask.until is not None:
        final = await poll_until(web, ask.poll, ask.until, values)
        if ask.digest is not None:
            told = algorithm_of(one_value(ask.digest, final, ask.poll.path))
    digest = hashlib.new(told[0], usedforsecurity=False) if told is not None else None
    async with aclosing(web.download(ask.fetch.method, _path(ask.fetch, values))) as blocks:
        async for block in blocks:
            if digest is not None:
                digest.update(block)
            yield block
    if digest is not None and told is not None and digest.hexdigest() != told[1]:
        raise FarSideFailed(
            f"{ask.fetch.path} is not what the machine says it is: its {told[0]} is another one.",
            "Take the backup again; check the machine if it happens again.",
        )


async def _send(web: Web, request: Request, values: Mapping[str, str]) -> bytes:
    return (
        await web.request(
            request.method,
            _path(request, values),
            json=body_of(web, request, values),
        )
    ).body


def _path(request: Request, values: Mapping[str, str]) -> str:
    """An address that the machine answered with names it as it knows itself. Its path alone counts,
    at the machine that was reached: nobody else gets the login.
    """
    path = filled(request.path, values)
    if not path.startswith(("http://", "https://")):
        return path
    told = urlsplit(path)
    return (told.path or "/") + (f"?{told.query}" if told.query else "")


def body_of(web: Web, request: Request, values: Mapping[str, str]) -> object:
    """The body of a request with its placeholders filled, also those of secrets; ``values`` go
    before these. Raises MendSettings for a secret that the system does not have.
    """
    for name in (named_in_json(request.json_body) & web.secrets.keys()) - values.keys():
        if web.secrets[name] is None:
            raise MendSettings(
                f"The setting {name} is needed for {request.path}, and names no login.",
                f"fennox login add NAME …, then: fennox system set SYSTEM --setting {name}=NAME",
            )
    secrets = {name: secret for name, secret in web.secrets.items() if secret is not None}
    return filled_json(request.json_body, {**secrets, **values})


async def poll_until(
    web: Web,
    request: Request,
    until: Until,
    values: Mapping[str, str],
    each_time: Callable[[], Awaitable[None]] | None = None,
) -> bytes:
    """Ask again, a little later each time, until the answer is final; returns that answer.
    ``each_time``: called between.
    """
    pause = 0.05
    with anyio.move_on_after(until.limit):
        while True:
            body = await _send(web, request, values)
            state = one_value(until.jsonpath, body, request.path)
            if state == until.equals:
                return body
            if until.fails is not None and state == until.fails:
                why = one_value(until.why, body, request.path) if until.why is not None else ""
                said = _veiled(printable(": ".join(filter(None, (state, why)))), web, values)[:300]
                raise FarSideFailed(f"{request.path} says {said}.", "Check the machine.")
            if each_time is not None:
                await each_time()
            await anyio.sleep(pause)
            pause = min(pause * 1.5, 5)
    raise FarSideFailed(
        f"{request.path} was not {until.equals} within {until.limit} seconds.",
        "Check the machine.",
    )


def _veiled(said: str, web: Web, values: Mapping[str, str]) -> str:
    """Without the secrets that were sent to the machine, which may repeat them in its reason."""
    told = {name: secret for name, secret in web.secrets.items() if secret}
    told |= {name: values[name] for name in (*web.secrets, "offer-secret") if name in values}
    for name, secret in told.items():
        said = said.replace(secret, f"‹{name}›")
    return said


def answered_json(body: bytes, where: str) -> object:
    """Raises FarSideFailed where it is none. ``where``: what answered, for the error."""
    try:
        return json.loads(body)
    except (ValueError, RecursionError) as error:
        raise FarSideFailed(
            f"{where} is not JSON.", "Check that the machine is of this kind."
        ) from error


def one_value(jsonpath: str, body: bytes, where: str) -> str:
    """The first value of an answer in JSON. ``where``: what answered, for the error."""
    drawn = expressions.json_values(jsonpath, answered_json(body, where))
    if not drawn:
        raise FarSideFailed(
            f"{where} has no {jsonpath}.", "Check that the machine is of this kind."
        )
    return drawn[0]
