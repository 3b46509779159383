"""What a machine is asked in one command before its files are read: who it is, its time, what lies
where, and what its programs say.

Answers are kept if they are short. The output of a program that turns out to be long is read where
it is wanted, and what was asked behind it follows it.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from datetime import datetime

from fennox.core.errors import FarSideFailed
from fennox.core.evidence import evaluation
from fennox.core.format.manifest import Machine
from fennox.core.kinds.commands import command
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import PartModel, Source
from fennox.engine.backups.vault import Now
from fennox.engine.reading.capture import values_of
from fennox.engine.reading.file_survey import (
    CLOCK,
    Places,
    Survey,
    clock_of,
    is_at_rest,
    places_in,
    places_of,
)
from fennox.links.base import MAX_OUTPUT, Link, Output, Running, Shell

_SILENCE = 600  # seconds that a command may write nothing
_SHORT = 256 * 1024  # bytes of an output that is kept
Key = tuple[str, int]
"""A source: the name of its part, and its place there."""


@dataclass(frozen=True)
class AskedCommand:
    """One command of the script, and what it answers: the time, who it is, where files are, what a
    program says.

    Of ``places`` those of ``files`` come first, and behind them those that other answers are made
    from; such an answer is ``made``, and does not count when answers are compared. ``clock``: the
    answer has the time, or is nothing else.
    """

    words: list[str]
    clock: bool = False
    answer: str = ""
    files: Sequence[Key] = ()
    places: Places | None = None
    output: Key | None = None
    made: bool = False

    @property
    def name(self) -> str:
        return (
            f"{self.words[0]} for the part {self.output[0]}"
            if self.output is not None
            else self.words[0]
        )


@dataclass
class Spoken:
    """A program's output: all of it in ``start``, unless it is long; then the rest is in
    ``blocks``.
    """

    asked: AskedCommand
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

    asked: Sequence[AskedCommand]
    answers: AsyncIterator[Running]
    now: Now | None
    begun: datetime | None
    clock: tuple[bytes, datetime] | None = None  # what it says that it is, and what we say
    machine_answers: dict[str, bytes] = field(default_factory=dict)
    surveys: dict[Key, Survey] = field(default_factory=dict)
    _spoken: list[Spoken] = field(default_factory=list)
    # what would be the same if nothing has changed
    _plain: list[bytes] = field(default_factory=list)
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
        while self._read < len(self.asked) and not (
            self._spoken and self._spoken[-1].ended is None
        ):
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
        """All answers, if equal answers prove that nothing has changed."""
        return self._plain if self._still and self._read == len(self.asked) else None

    async def _read_one(self) -> None:
        asked = self.asked[self._read]
        self._read += 1
        running = await anext(self.answers)
        blocks, kept, most = (
            running.blocks(),
            bytearray(),
            _SHORT if asked.output is not None else MAX_OUTPUT,
        )
        came = None  # when the answer began
        while len(kept) <= most and (block := await next_block(blocks, asked.name)) is not None:
            came = came or (self.now() if self.now is not None else None)
            kept += block
        if len(kept) > most and asked.output is not None:
            self._still = False
            self._spoken.append(Spoken(asked, asked.output, bytes(kept), running, blocks, None))
            return
        while len(kept) > most and await next_block(blocks, asked.name) is not None:
            pass  # it is too much to be kept
        answer, ended = bytes(kept), await running.ended()
        if asked.clock and came is not None and self.begun is not None:
            told = clock_of(answer) if asked.places is not None else answer
            self.clock = (told, self.begun + (came - self.begun) / 2) if told else None
        if asked.answer:
            self.machine_answers[asked.answer] = answer if ended.code == 0 else b""
            if not asked.made:
                self._plain += [asked.answer.encode(), self.machine_answers[asked.answer]]
        elif asked.output is not None:
            self._spoken.append(Spoken(asked, asked.output, answer, running, None, ended))
            if not asked.made:
                self._plain += [
                    *map(_word, asked.words),
                    answer,
                    str(ended.code).encode(),
                    _word(ended.errors),
                ]
        elif asked.places is not None:
            self._hear_of_files(
                asked, asked.places, answer, whole=ended.code == 0 and len(answer) <= most
            )

    def _hear_of_files(
        self, asked: AskedCommand, places: Places, answer: bytes, *, whole: bool
    ) -> None:
        self._plain += places.told(answer)
        if not places.tar:  # not read unless something else has changed as well
            self._still = self._still and whole and is_at_rest(answer)
            return
        found = places.surveys(answer, whole=whole)
        self.surveys |= dict(zip(asked.files, found, strict=False))
        made_of_nothing = not all(one.roots for one in found[len(asked.files) :])
        at_rest = all(one.look is not None and one.look.at_rest for one in found)
        self._still = self._still and at_rest and not made_of_nothing


def _word(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


async def next_block(blocks: AsyncGenerator[bytes, None], name: str) -> bytes | None:
    """What a command writes next; None: it has ended. ``name``: of the command, for errors."""
    try:
        async with asyncio.timeout(_SILENCE):
            return await anext(blocks, None)
    except TimeoutError as error:
        raise FarSideFailed(
            f"{name} wrote nothing for {_SILENCE} seconds.", "Look at the machine."
        ) from error


@asynccontextmanager
async def inquiring(
    link: Link | None,
    kind: Kind,
    settings: dict[str, str],
    parts: Sequence[str],
    *,
    stamps: bool,
    now: Now | None = None,
    likely: bool = False,
) -> AsyncIterator[Inquiry]:
    """Ask a machine about these parts, as far as it is reached by a shell.

    ``stamps``: also what it knows of every file; ``now``: also who it is, and what its time is when
    this is ours. ``likely``: nothing has changed, so that outputs are not asked for that are known
    by what they are made from.
    """
    if not isinstance(link, Shell):
        yield Inquiry([], _nothing(), None, None)
        return
    link.language = kind.shell
    values = values_of(kind, settings)
    asking = _Asking(kind, values, stamps and kind.shell == "posix", likely)
    asked = asking.all(parts, itself=now is not None)
    begun = now() if now is not None else None
    heard = {number for number, one in enumerate(asked) if one.output is not None}
    async with link.series([one.words for one in asked], heard=heard) as answers:
        yield Inquiry(asked, answers, now, begun)


def is_asked_whole(kind: Kind, parts: Sequence[str]) -> bool:
    """Whether the answers say of everything in these parts whether it has changed."""
    sources = [source for part in map(kind.part_named, parts) for source in part.source]
    return kind.shell == "posix" and not kind.identity.ask and all(map(_tells, sources))


def _tells(source: Source) -> bool:
    return (source.files is not None and not source.settled) or (
        source.run is not None and source.each is None
    )


@dataclass
class _Asking:
    """Puts the questions together. ``stamps`` and ``likely`` as for :func:`inquiring`."""

    kind: Kind
    values: dict[str, str]
    stamps: bool
    likely: bool
    _found: list[AskedCommand] = field(default_factory=list)
    _files: list[tuple[Key, list[str]]] = field(default_factory=list)
    _made_from: list[list[str]] = field(default_factory=list)
    # that come when files have been asked for
    _behind: list[AskedCommand] = field(default_factory=list)
    _clock: bool = False  # the next question about files also asks for the time
    # one that may change files comes behind those, so that further ones are another question
    _program: bool = False

    def all(self, parts: Sequence[str], *, itself: bool) -> list[AskedCommand]:
        if itself:
            self._about_itself()
        self._about_sources(parts)
        self._close()
        return self._found

    def _about_itself(self) -> None:
        clock = self.kind.clock.run if self.kind.clock is not None else None
        self._clock = self.stamps and self.likely and clock == CLOCK
        if clock and not self._clock:
            self._found.append(AskedCommand(command(clock, self.values), clock=True))
        identity = self.kind.identity
        made = self._is_made(identity.made_from)
        if not (made and self.likely):
            asked = [
                AskedCommand(command(run, self.values), answer=name, made=made)
                for name, run in identity.run.items()
            ]
            (self._behind if made else self._found).extend(asked)

    def _about_sources(self, parts: Sequence[str]) -> None:
        """Of sources up to the first one that needs another way, so that all are asked in the order
        of the kind.
        """
        for part, at, source in _first_sources(self.kind, parts):
            key = (part.name, at)
            if source.files is None:
                made = self._is_made(source.made_from)
                self._program |= not made
                if not (made and self.likely):
                    self._behind.append(
                        AskedCommand(command(source.run or [], self.values), output=key, made=made)
                    )
            elif self.kind.shell == "posix":
                if self._program:
                    self._close()
                self._files.append((key, places_of(self.kind, source, self.values)))

    def _is_made(self, made_from: list[str]) -> bool:
        """Whether an answer is known by files; if so, they are asked for before it is."""
        if not (self.stamps and made_from):
            return False
        self._made_from.append(places_in(self.kind, made_from, self.values))
        return True

    def _close(self) -> None:
        """Files, and behind them what answers are made from, are one question."""
        if self._files or self._made_from:
            places = Places(
                [*(places for _, places in self._files), *self._made_from], tar=not self.likely
            )
            files = [key for key, _ in self._files]
            question = places.question(stamps=self.stamps)
            self._found.append(
                AskedCommand(question, clock=self._clock, files=files, places=places)
            )
            self._clock = False
        self._found += self._behind
        self._files, self._made_from, self._behind, self._program = [], [], [], False


def _first_sources(kind: Kind, parts: Sequence[str]) -> list[tuple[PartModel, int, Source]]:
    found: list[tuple[PartModel, int, Source]] = []
    for part in map(kind.part_named, parts):
        for at, source in enumerate(part.source):
            if source.each is not None or source.ask is not None:
                return found
            if source.hand is None:
                found.append((part, at, source))
    return found


async def _nothing() -> AsyncGenerator[Running, None]:
    return
    yield
