"""Everything a machine is asked in one command before its files are read: identity, time, file
locations, and program outputs. Short answers are kept. A long program output is read where it is
needed, and the answers after it follow.
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
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import PartModel, Source
from fennox.engine.backups.vault import Now
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

_SILENCE = 600  # seconds a command may stay silent
_SHORT = 256 * 1024  # bytes of a kept output
Key = tuple[str, int]
"""A source: the name of its part, and its place there."""


@dataclass(frozen=True)
class AskedCommand:
    """One command of the script and its answer: time, identity, file locations, or a program's
    output. In ``places`` those of ``files`` come first, then those from which other answers are
    derived; a derived answer (``made``) is ignored when answers are compared. ``clock``: the answer
    contains the time.
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
    """A program's output: in ``start``, and for long outputs the rest in ``blocks``."""

    asked: AskedCommand
    key: Key
    start: bytes
    running: Running
    rest: AsyncGenerator[bytes, None] | None
    ended: Output | None

    async def blocks(self) -> AsyncGenerator[bytes, None]:
        """Must be read to its end; its exit status is known afterwards."""
        yield self.start
        if self.rest is not None:
            while (block := await next_block(self.rest, self.asked.name)) is not None:
                yield block
            self.ended = await self.running.ended()


@dataclass
class Inquiry:
    """The answers read so far, in order of arrival."""

    asked: Sequence[AskedCommand]
    answers: AsyncIterator[Running]
    now: Now | None
    begun: datetime | None
    clock: tuple[bytes, datetime] | None = None  # the machine's identity, and the one we expect
    machine_answers: dict[str, bytes] = field(default_factory=dict)
    surveys: dict[Key, Survey] = field(default_factory=dict)
    _spoken: list[Spoken] = field(default_factory=list)
    # what stays equal while nothing changes
    _plain: list[bytes] = field(default_factory=list)
    _read: int = 0  # answers
    _still: bool = True  # all answers are short, and nothing changed just now

    @property
    def outputs(self) -> set[Key]:
        """Sources whose documents it delivers."""
        return {asked.output for asked in self.asked if asked.output is not None}

    def machine(self, kind: Kind) -> Machine:
        return evaluation.machine(kind, self.machine_answers)

    async def read(self) -> None:
        """Read the answers up to a long program output."""
        while self._read < len(self.asked) and not (
            self._spoken and self._spoken[-1].ended is None
        ):
            await self._read_one()

    async def spoken(self) -> AsyncGenerator[Spoken, None]:
        """Program outputs; each must be read to its end before requesting the next."""
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
        came = None  # start of the answer
        while len(kept) <= most and (block := await next_block(blocks, asked.name)) is not None:
            came = came or (self.now() if self.now is not None else None)
            kept += block
        if len(kept) > most and asked.output is not None:
            self._still &= asked.made  # of that one the files tell that it is made from
            self._spoken.append(Spoken(asked, asked.output, bytes(kept), running, blocks, None))
            return
        while len(kept) > most and await next_block(blocks, asked.name) is not None:
            pass  # too long to keep
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
        if not places.tar:  # not read unless something else changed too
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
    """The next output of a command; None: it ended. ``name``: of the command, for errors."""
    try:
        async with asyncio.timeout(_SILENCE):
            return await anext(blocks, None)
    except TimeoutError as error:
        raise FarSideFailed(
            f"{name} wrote nothing for {_SILENCE} seconds.", "Check the machine."
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
    """Ask a machine about these parts, if it is reached through a shell. ``stamps``: also file
    metadata; ``now``: our time, to ask also for identity and clock. ``likely``: assume nothing
    changed, and skip outputs that can be derived from files.
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
    """Whether the answers show for everything in these parts whether it changed."""
    sources = [source for part in map(kind.part_named, parts) for source in part.source]
    return kind.shell == "posix" and not kind.identity.ask and all(map(_tells, sources))


def _tells(source: Source) -> bool:
    return (source.files is not None and not source.settled and source.named_by is None) or (
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
    # questions to ask after the files
    _behind: list[AskedCommand] = field(default_factory=list)
    _clock: bool = False  # the next question about files also requests the time
    # commands that may change files come after these, so later sources need another question
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
        """Sources up to the first that needs another method, so that all are read in the kind's
        order.
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
        """Whether an answer can be derived from files; if so, the files are asked for first."""
        if not (self.stamps and made_from):
            return False
        self._made_from.append(places_in(self.kind, made_from, self.values))
        return True

    def _close(self) -> None:
        """Files, and then the files answers are derived from, form one question."""
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
            later = source.each is not None or source.named_by is not None
            if later or (source.run is None and source.files is None):
                return found
            if source.hand is None:
                found.append((part, at, source))
    return found


async def _nothing() -> AsyncGenerator[Running, None]:
    return
    yield
