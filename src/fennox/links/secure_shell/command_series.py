"""Running commands one after the other in one shell script, and splitting their outputs. After each
command's output the script writes an unguessable mark with the exit code; after its standard error,
the mark alone.
"""

from __future__ import annotations

import asyncio
import shlex
from collections.abc import AsyncGenerator, AsyncIterator, Collection, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from fennox.core.errors import Unreachable
from fennox.core.names import printable
from fennox.links.base import Output

_MAX_ERRORS = 16 * 1024  # bytes of standard error kept per command


def script(
    questions: Sequence[list[str]], heard: Collection[int], before: list[str], mark: str
) -> str:
    """A script for a POSIX shell. ``before``: words before every command; ``heard``: commands whose
    standard error is wanted.
    """

    def one(number: int, words: list[str]) -> str:
        quiet, marked = ("", f"; printf '{mark}' >&2") if number in heard else (" 2>/dev/null", "")
        return (
            f"({shlex.join([*before, *words])}) </dev/null{quiet}; printf '\\n{mark} %d\\n'"
            f" $?{marked}"
        )

    return "; ".join(one(number, words) for number, words in enumerate(questions))


class AnswerReader(Protocol):
    async def read(self, most: int) -> bytes: ...


@dataclass
class Errors:
    """Standard error by command, bounded, each as one line. Without a mark it all belongs to one
    command.
    """

    mark: bytes = b""
    _said: list[bytes] = field(default_factory=list)
    _now: bytearray = field(default_factory=bytearray)
    _held: bytes = b""  # possible beginning of a mark
    _ended: bool = False
    _news: asyncio.Event = field(default_factory=asyncio.Event)

    async def read(self, reader: AnswerReader, count: int | None = None) -> None:
        """Read to the end, or to the ``count``-th mark, after which nothing follows."""
        try:
            while (count is None or len(self._said) < count) and (block := await reader.read(4096)):
                self._feed(block)
        finally:
            self._said.append(bytes(self._now) + self._held)
            self._ended = True
            self._news.set()

    async def of(self, number: int) -> str:
        """Standard error of a finished command, counted from 0."""
        while len(self._said) <= number and not self._ended:
            self._news.clear()
            await self._news.wait()
        said = self._said[number] if number < len(self._said) else b""
        return printable(said[:_MAX_ERRORS].replace(b"\n", b" | ")).strip(" |")

    def _feed(self, block: bytes) -> None:
        self._held += block
        if self.mark:
            *ended, self._held = self._held.split(self.mark)
            for rest in ended:
                self._said.append(bytes(self._now) + rest)
                self._now.clear()
                self._news.set()
        sure = max(0, len(self._held) - max(0, len(self.mark) - 1))
        self._now += self._held[: min(sure, max(0, _MAX_ERRORS - len(self._now)))]
        self._held = self._held[sure:]


@dataclass
class SeriesAnswer:
    """The output of one command of a series; its exit status is known once it has been read to the
    end.
    """

    series: Series
    heard: int | None  # its index among those whose standard error is wanted
    code: int | None = None

    async def blocks(self) -> AsyncGenerator[bytes, None]:
        while self.code is None:
            piece, self.code = await self.series.next_piece()
            if piece:
                yield piece

    async def ended(self) -> Output:
        async for _ in self.blocks():
            pass
        assert self.code is not None
        return Output(
            self.code,
            b"",
            await self.series.errors.of(self.heard) if self.heard is not None else "",
        )


@dataclass
class Series:
    """Splits a script's output into answers. ``cut``: the error for an end before the last mark."""

    blocks: AsyncIterator[bytes]
    mark: str
    errors: Errors
    cut: Unreachable
    ended: int = 0  # answers read completely
    _held: bytes = b""

    async def answers(
        self, count: int, heard: Collection[int]
    ) -> AsyncGenerator[SeriesAnswer, None]:
        wanted = sorted(heard)
        for number in range(count):
            answer = SeriesAnswer(self, wanted.index(number) if number in heard else None)
            yield answer
            await answer.ended()

    async def next_piece(self) -> tuple[bytes, int | None]:
        """The next bytes of the present answer, and its exit code if it ends with them."""
        mark = f"\n{self.mark} ".encode()
        while True:
            output, found, rest = self._held.partition(mark)
            code, end, rest = rest.partition(b"\n")
            if end:
                if not code.isdigit():
                    raise self.cut
                self._held = rest
                self.ended += 1
                return output, int(code)
            sure = len(output) if found else len(self._held) - len(mark) + 1
            if sure > 0:
                piece, self._held = self._held[:sure], self._held[sure:]
                return piece, None
            block = await anext(self.blocks, b"")
            if not block:
                raise self.cut
            self._held += block
