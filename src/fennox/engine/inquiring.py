"""What a machine is asked in one command before its files are read: who it is, its time, what lies where, and what its
programs say.

Answers are kept if they are short. The output of a program that turns out to be long is read where it is wanted, and
what was asked behind it follows it.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from datetime import datetime
from itertools import groupby

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import Machine
from fennox.core.kinds import evaluation
from fennox.core.kinds.expressions import filled
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import PartModel, Source
from fennox.engine.capture import values_of
from fennox.engine.surveying import Places, Survey, lines_of, places_of
from fennox.engine.vault import Now
from fennox.links.base import MAX_OUTPUT, Link, Output, Running, Shell

_SILENCE = 600  # seconds that a command may write nothing
_SHORT = 256 * 1024  # bytes of an output that is kept
Key = tuple[str, int]
"""A source: the name of its part, and its place there."""


@dataclass(frozen=True)
class Asked:
    """One command of the script, and what it answers: the time, who it is, where files are, what a program says."""

    words: list[str]
    clock: bool = False
    answer: str = ""
    files: Sequence[Key] = ()
    places: Places | None = None
    output: Key | None = None

    @property
    def name(self) -> str:
        return f"{self.words[0]} for the part {self.output[0]}" if self.output is not None else self.words[0]


@dataclass
class Spoken:
    """What a program says: ``start`` is all of it, unless it is long; then it goes on in ``blocks``."""

    asked: Asked
    key: Key
    start: bytes
    running: Running
    rest: AsyncGenerator[bytes, None] | None
    ended: Output | None

    async def blocks(self) -> AsyncGenerator[bytes, None]:
        """To be read to its end; how it ended is known from then on."""
        yield self.start
        if self.rest is not None:
            while (block := await next_block(self.rest, self.asked.name)) is not None:
                yield block
            self.ended = await self.running.ended()


@dataclass
class Inquiry:
    """The answers as far as they were read, in the order in which they come."""

    asked: Sequence[Asked]
    answers: AsyncIterator[Running]
    now: Now | None
    begun: datetime | None
    clock: tuple[bytes, datetime] | None = None  # what it says that it is, and what we say
    machine_answers: dict[str, bytes] = field(default_factory=dict)
    surveys: dict[Key, Survey] = field(default_factory=dict)
    _spoken: list[Spoken] = field(default_factory=list)
    _plain: list[bytes] = field(default_factory=list)  # what would be the same if nothing has changed
    _read: int = 0  # answers
    _still: bool = True  # all of it is short, and nothing has been changed just now

    @property
    def outputs(self) -> set[Key]:
        """Sources whose documents it brings."""
        return {asked.output for asked in self.asked if asked.output is not None}

    def machine(self, kind: Kind) -> Machine:
        return evaluation.machine(kind, self.machine_answers)

    async def read(self) -> None:
        """Read the answers, up to a program's output that is long."""
        while self._read < len(self.asked) and not (self._spoken and self._spoken[-1].ended is None):
            await self._read_one()

    async def spoken(self) -> AsyncGenerator[Spoken, None]:
        """What programs say, each to be read to its end before the next is asked for."""
        at = 0
        while True:
            await self.read()
            if at == len(self._spoken):
                return
            yield self._spoken[at]
            assert self._spoken[at].ended is not None, "the output before was not read to its end"
            at += 1

    def told(self) -> list[bytes] | None:
        """All answers, if they say by themselves whether anything has changed."""
        return self._plain if self._still and self._read == len(self.asked) else None

    async def _read_one(self) -> None:
        asked = self.asked[self._read]
        self._read += 1
        running = await anext(self.answers)
        blocks, kept, most = running.blocks(), bytearray(), _SHORT if asked.output is not None else MAX_OUTPUT
        while len(kept) <= most and (block := await next_block(blocks, asked.name)) is not None:
            kept += block
        if len(kept) > most and asked.output is not None:
            self._still = False
            self._spoken.append(Spoken(asked, asked.output, bytes(kept), running, blocks, None))
            return
        while len(kept) > most and await next_block(blocks, asked.name) is not None:
            pass  # it is too much to be kept
        answer, ended = bytes(kept), await running.ended()
        if asked.clock and self.now is not None and self.begun is not None:
            self.clock = (answer, self.begun + (self.now() - self.begun) / 2)
        elif asked.answer:
            self.machine_answers[asked.answer] = answer if ended.code == 0 else b""
            self._plain += [asked.answer.encode(), self.machine_answers[asked.answer]]
        elif asked.output is not None:
            self._spoken.append(Spoken(asked, asked.output, answer, running, None, ended))
            self._plain += [*map(_word, asked.words), answer, str(ended.code).encode(), _word(ended.errors)]
        elif asked.places is not None:
            whole = ended.code == 0 and len(answer) <= most
            found = asked.places.surveys(answer, whole=whole)
            self.surveys |= dict(zip(asked.files, found, strict=True))
            self._plain += [*map(_word, asked.words), *lines_of(answer)]
            self._still = self._still and all(one.look is not None and one.look.at_rest for one in found)


def _word(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


async def next_block(blocks: AsyncGenerator[bytes, None], name: str) -> bytes | None:
    """What a command writes next; None: it has ended. ``name``: of the command, for errors."""
    try:
        async with asyncio.timeout(_SILENCE):
            return await anext(blocks, None)
    except TimeoutError as error:
        raise FarSideFailed(f"{name} wrote nothing for {_SILENCE} seconds.", "Look at the machine.") from error


@asynccontextmanager
async def inquiring(
    link: Link | None,
    kind: Kind,
    settings: dict[str, str],
    parts: Sequence[str],
    *,
    stamps: bool,
    now: Now | None = None,
) -> AsyncIterator[Inquiry]:
    """Ask a machine about these parts, as far as it is reached by a shell.

    ``stamps``: also what it knows of every file; ``now``: also who it is, and what its time is when this is ours.
    """
    if not isinstance(link, Shell):
        yield Inquiry([], _nothing(), None, None)
        return
    link.language = kind.shell
    values = values_of(kind, settings)
    asked = _about_itself(kind, values) if now is not None else []
    asked += _about_sources(kind, values, parts, stamps=stamps)
    begun = now() if now is not None else None
    heard = {number for number, one in enumerate(asked) if one.output is not None}
    async with link.series([one.words for one in asked], heard=heard) as answers:
        yield Inquiry(asked, answers, now, begun)


def is_asked_whole(kind: Kind, parts: Sequence[str]) -> bool:
    """Whether the answers say of everything in these parts whether it has changed."""
    sources = [source for part in map(kind.part_named, parts) for source in part.source]
    return kind.shell == "posix" and not kind.identity.ask and all(map(_tells, sources))


def _tells(source: Source) -> bool:
    return (source.files is not None and not source.settled) or (source.run is not None and source.each is None)


def _about_itself(kind: Kind, values: dict[str, str]) -> list[Asked]:
    clock = kind.clock.run if kind.clock is not None else None
    found = [Asked(_filled(clock, values), clock=True)] if clock else []
    return found + [Asked(_filled(words, values), answer=name) for name, words in kind.identity.run.items()]


def _about_sources(kind: Kind, values: dict[str, str], parts: Sequence[str], *, stamps: bool) -> list[Asked]:
    """Of sources up to the first one that needs another way, so that all are asked in the order of the kind."""
    found: list[Asked] = []
    for files, grouped in groupby(_first_sources(kind, parts), lambda one: one[2].files is not None):
        group = [((part.name, at), source) for part, at, source in grouped]
        if not files:
            found += [Asked(_filled(source.run or [], values), output=key) for key, source in group]
        elif kind.shell == "posix":
            places = Places([places_of(kind, source, values) for _, source in group])
            found.append(Asked(places.question(stamps=stamps), files=[key for key, _ in group], places=places))
    return found


def _first_sources(kind: Kind, parts: Sequence[str]) -> list[tuple[PartModel, int, Source]]:
    found: list[tuple[PartModel, int, Source]] = []
    for part in map(kind.part_named, parts):
        for at, source in enumerate(part.source):
            if source.each is not None or source.ask is not None:
                return found
            if source.hand is None:
                found.append((part, at, source))
    return found


def _filled(words: list[str], values: dict[str, str]) -> list[str]:
    return [filled(word, values) for word in words]


async def _nothing() -> AsyncGenerator[Running, None]:
    return
    yield
