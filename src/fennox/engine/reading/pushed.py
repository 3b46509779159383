"""Documents that a system pushes to its drop: asked for, waited for, and read from the spool once
they are whole.
"""

from __future__ import annotations

import hashlib
from collections.abc import AsyncGenerator, AsyncIterator
from datetime import UTC, datetime

import anyio

from fennox.core.errors import BadInput, FarSideFailed
from fennox.core.evidence.pushes import (
    Arrival,
    Lacking,
    Told,
    Whole,
    belongs,
    digest_wanted,
    judge,
    told_by,
)
from fennox.core.format.manifest import Document, Finding
from fennox.core.kinds.actions import Request
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled, wanted
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.pushes import Push
from fennox.core.kinds.sources import PartModel, Source
from fennox.core.names import printable
from fennox.core.regexes import compiled
from fennox.engine.drop import Drop
from fennox.engine.reading.capture import Capture, Captured, shell_of, watched, web_of
from fennox.engine.reading.requests import body_of, one_value, poll_until
from fennox.links.base import Link

_LONGEST_MANIFEST = 4 * 1024 * 1024  # bytes
_LOOKED_THROUGH = 1024 * 1024  # bytes of a file in which `fits` is looked for
_DONE_FOR = 10.0  # seconds in which nothing more came, after the machine said that it was done
_LOOK_EVERY = 0.5  # seconds
_EVER = datetime.max.replace(tzinfo=UTC)


async def read_pushed(
    link: Link | None, capture: Capture, part: PartModel, source: Source
) -> AsyncGenerator[Captured, None]:
    """Every file of one whole push. What is asked for is waited for; what comes by itself is
    there.
    """
    push = source.push
    assert push is not None
    if capture.drop is None:  # a trial or a look, which must not set off a push
        capture.findings.append(_not_asked(part))
        return
    values = values_of(capture.kind, capture.settings)
    if push.start is not None:
        earlier = capture.drop.arrivals()
        await _ask(link, push, values)
        whole = await _wait(capture.drop, push, part, {one.id for one in earlier})
        # of an earlier asking whose take failed
        left = [one for one in earlier if belongs(push, one.name) and (one.ended or one.problem)]
        capture.drop.taken(left)
    else:
        whole = await _there(capture.drop, push, part)
    told = await told_of(capture.drop, push, whole.arrivals)
    for name, arrival in _by_name(push, whole.arrivals).items():
        document = Document(
            path=filled(source.document or "{name}", {**values, "name": name}),
            type="output",
            secret=source.secret,
            size=arrival.size,
        )
        content = _checked(capture.drop, push, arrival, told)
        yield watched(capture, part, source, document, content)
    capture.drop.taken(whole.arrivals)


def _by_name(push: Push, arrivals: list[Arrival]) -> dict[str, Arrival]:
    """By what their names are taken for; of several, the one that arrived last."""
    if push.named is None:
        return {one.name: one for one in arrivals}
    named = compiled(push.named)
    in_order = sorted(arrivals, key=lambda one: (one.ended or one.begun, one.name))
    return {named.first(one.name) or one.name: one for one in in_order}


def _not_asked(part: PartModel) -> Finding:
    return Finding(
        severity="note",
        code="push-not-asked",
        subject=part.name,
        text=f"{part.title} is pushed, and was not asked for.",
        remedy="A take asks for it.",
    )


async def told_of(drop: Drop, push: Push, arrivals: list[Arrival]) -> Told | None:
    """What the manifest among the arrivals says; None: there is none."""
    if push.manifest is None:
        return None
    listing = [
        one for one in arrivals if one.ended is not None and wanted([push.manifest.file], one.name)
    ]
    if not listing or listing[-1].size > _LONGEST_MANIFEST:
        return None
    content = b"".join([block async for block in drop.content(listing[-1])])
    return told_by(push, content.decode("utf-8", "replace"))


async def _there(drop: Drop, push: Push, part: PartModel) -> Whole:
    arrivals = [one for one in drop.arrivals() if belongs(push, one.name)]
    judged = judge(push, arrivals, await told_of(drop, push, arrivals), drop.now())
    match judged:
        case Whole():
            return judged
        case Lacking():
            raise FarSideFailed(
                f"What was pushed as {part.title} is not whole: {' '.join(judged.says)}",
                "Have it pushed again.",
            )
        case _:
            raise BadInput(
                f"{part.title} is not at the drop.", "It is taken when the system has pushed it."
            )


async def _ask(link: Link | None, push: Push, values: dict[str, str]) -> None:
    assert push.start is not None
    if push.start.run is not None:
        done = await (await shell_of(link)).run(command(push.start.run, values), limit=600)
        if done.code != 0:
            raise FarSideFailed(
                f"{push.start.run[0]}, which asks for the push, ended with {done.code}:"
                f" {printable(done.errors[:300])}",
                "Check the machine.",
            )
        return
    assert push.start.ask is not None
    answer = await _sent(link, push.start.ask, values)
    if push.job is not None:
        values["job"] = one_value(push.job, answer, "the answer to the asking")
    if push.poll is not None and push.until is not None:
        await poll_until(await web_of(link), push.poll, push.until, values)


async def _sent(link: Link | None, request: Request, values: dict[str, str]) -> bytes:
    web = await web_of(link)
    path = filled(request.path, values)
    return (await web.request(request.method, path, json=body_of(web, request, values))).body


async def _wait(drop: Drop, push: Push, part: PartModel, before: set[str]) -> Whole:
    """``before``: ids of what lay there when it was asked for, and is none of it. Where the machine
    has said that it is done, what does not arrive soon never will.
    """
    said = "nothing has arrived"
    seen: list[Arrival] = []
    quiet_from = anyio.current_time() + push.quiet
    with anyio.move_on_after(push.within):
        while True:
            arrivals = [one for one in drop.arrivals() if one.id not in before]
            mine = [one for one in arrivals if belongs(push, one.name)]
            if mine != seen:
                seen, quiet_from = mine, anyio.current_time() + push.quiet
            # by seconds that have passed: the clock by which files arrived may be set meanwhile
            now = _EVER if anyio.current_time() >= quiet_from else drop.now()
            judged = judge(push, mine, await told_of(drop, push, mine), now)
            if isinstance(judged, Whole):
                return judged
            if isinstance(judged, Lacking):
                said = " ".join(judged.says)
            elif judged is not None:
                said = "it was still arriving"
            if push.until is not None and anyio.current_time() >= quiet_from + _DONE_FOR:
                raise FarSideFailed(
                    f"{part.title}: the machine says that it is done, but what it pushed is not"
                    f" whole: {said}",
                    "See what it says of its push, and have it pushed again.",
                )
            await anyio.sleep(_LOOK_EVERY)
    raise FarSideFailed(
        f"{part.title} was asked for, and was not whole within {push.within} seconds: {said}",
        "See what the system says of its push, and whether it can reach the drop.",
    )


async def _checked(
    drop: Drop, push: Push, arrival: Arrival, told: Told | None
) -> AsyncIterator[bytes]:
    """The content; raises at its end where it is not what its manifest says, or does not fit."""
    wants = digest_wanted(told, arrival.name)
    digest = hashlib.new(wants[0], usedforsecurity=False) if wants is not None else None
    must_fit = push.fits is not None and wanted(push.files, arrival.name)
    beginning = bytearray()
    async for block in drop.content(arrival):
        if digest is not None:
            digest.update(block)
        if must_fit and len(beginning) < _LOOKED_THROUGH:
            beginning += block
        yield block
    if digest is not None and wants is not None and digest.hexdigest() != wants[1]:
        raise FarSideFailed(
            f"{arrival.name} is not what its manifest says: its {wants[0]} is another one.",
            "Have it pushed again.",
        )
    text = bytes(beginning[:_LOOKED_THROUGH]).decode("utf-8", "replace")
    if push.fits is not None and must_fit and not compiled(push.fits).fits(text):
        raise FarSideFailed(
            f"{arrival.name} has the right name, and nothing in it fits {push.fits}.",
            "See what the system pushed; it is not taken.",
        )
