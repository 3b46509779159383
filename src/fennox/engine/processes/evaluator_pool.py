"""Evaluates input from people and machines in processes that can be killed: JSONPath, structures,
comparisons. A document or expression built to run for ever costs one process, and leaves the
service unharmed.
"""

from __future__ import annotations

import asyncio
import pickle
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from fennox.core.compare.model import MOST_CHANGES, DocumentChange
from fennox.core.compare.value_search import Question
from fennox.core.errors import BadInput, FarSideFailed, TryLater
from fennox.core.format.manifest import Document
from fennox.core.kinds.model import Kind
from fennox.core.kinds.rules import PlaceRule
from fennox.core.places.place_choices import PlaceDecisions, PlaceInputs
from fennox.core.places.placed import PlaceEntry
from fennox.engine.processes import drawn_facts, evaluator_process
from fennox.engine.processes.drawn_facts import DrawnFacts, Heard
from fennox.engine.processes.evaluator_process import (
    LENGTH,
    READY,
    Answer,
    EvaluationAsked,
    EvaluationDone,
    EvaluationRefused,
    Mistaken,
    TooHard,
    framed,
)

_BEGINNING = 60.0  # seconds that a process may take to load
_LIMIT = 5.0  # seconds that an answer may take
_OF_READING = (
    1.5 * drawn_facts.PATIENCE
)  # seconds: the process itself checks the time between values
_AT_ONCE = 2  # processes
_MEMORY = 1 << 30  # bytes of address space per process
# killed, for example by the kernel when memory runs out
_LOST = "the process that evaluated it was lost"
_IDLE = 120.0  # seconds before an idle process is ended


class TooHardError(Exception):
    """It exceeded its time or memory; the answer is unknown."""


class Evaluates(Protocol):
    """The interface for comparing documents and searching values in them."""

    async def changed(
        self,
        kind: Kind,
        part: str,
        before: Document,
        after: Document,
        contents: tuple[bytes, bytes] | None,
        salt: bytes,
        *,
        patches: bool = False,
        room: int = MOST_CHANGES,
    ) -> DocumentChange | None: ...

    async def values(
        self, kind: Kind, question: Question, content: bytes, salt: bytes
    ) -> tuple[list[Any], str]: ...

    async def told(self, heard: Heard) -> DrawnFacts: ...

    async def quiet_digests(self, kind: Kind, contents: Mapping[str, bytes]) -> dict[str, str]: ...

    async def places(self, inputs: PlaceInputs) -> PlaceDecisions: ...

    async def rewritten(
        self, rules: list[PlaceRule], entries: list[tuple[str, PlaceEntry]], content: bytes
    ) -> bytes: ...


@dataclass(eq=False)
class _Process:
    process: asyncio.subprocess.Process
    ending: asyncio.TimerHandle | None = None

    async def ask(self, asked: EvaluationAsked) -> Answer:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(framed(asked))
        await self.process.stdin.drain()
        length = int.from_bytes(await self.process.stdout.readexactly(LENGTH), "little")
        found: Answer = pickle.loads(await self.process.stdout.readexactly(length))  # noqa: S301
        return found

    async def kill(self) -> None:
        if self.process.returncode is None:
            self.process.kill()
        await self.process.wait()


@dataclass
class Evaluators:
    """The processes of one service, started on first use."""

    limit: float = _LIMIT
    memory: int = _MEMORY
    _idle: list[_Process] = field(default_factory=list)
    _room: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(_AT_ONCE))

    @classmethod
    def of_readings(cls) -> Evaluators:
        """A separate pool for whole readings: they may be large, and interactive comparisons must
        not wait behind them.
        """
        return cls(_OF_READING, 4 * _MEMORY)

    async def changed(
        self,
        kind: Kind,
        part: str,
        before: Document,
        after: Document,
        contents: tuple[bytes, bytes] | None,
        salt: bytes,
        *,
        patches: bool = False,
        room: int = MOST_CHANGES,
    ) -> DocumentChange | None:
        """As ``core.compare.documents.changed``. A document too hard to compare counts as changed,
        without details.
        """
        named: dict[str, object] = {"patches": patches, "room": room}
        try:
            found = await self._ask("changed", kind, part, before, after, contents, salt, **named)
        except TooHardError:
            found = await self._ask("changed", kind, part, before, after, None, salt, **named)
        told: DocumentChange | None = found
        return told

    async def values(
        self, kind: Kind, question: Question, content: bytes, salt: bytes
    ) -> tuple[list[Any], str]:
        """As ``core.compare.value_search.values``; raises ``BadInput`` for an expression that takes
        too long.
        """
        try:
            found: tuple[list[Any], str] = await self._ask("values", kind, question, content, salt)
        except TooHardError as error:
            raise BadInput(
                f"To look for that in this document takes more than {self.limit:g} seconds, or too"
                " much memory.",
                "Ask for less, like $.server.port.",
                field="jsonpath",
            ) from error
        return found

    async def told(self, heard: Heard) -> DrawnFacts:
        """As ``drawn_facts``; documents too hard to evaluate are reported as such."""
        try:
            found: DrawnFacts = await self._ask("told", heard)
        except TooHardError as error:
            return drawn_facts.not_told(str(error))
        return found

    async def quiet_digests(self, kind: Kind, contents: Mapping[str, bytes]) -> dict[str, str]:
        """Digests without noise; omits documents too hard to evaluate, whose noise is unknown."""
        if not contents:
            return {}
        try:
            found: dict[str, str] = await self._ask("quiet", kind, dict(contents))
        except TooHardError:
            if len(contents) == 1:
                return {}
            halves = [
                dict(part) for part in (list(contents.items())[::2], list(contents.items())[1::2])
            ]
            return await self.quiet_digests(kind, halves[0]) | await self.quiet_digests(
                kind, halves[1]
            )
        return found

    async def places(self, inputs: PlaceInputs) -> PlaceDecisions:
        """As ``core.restoring.place_choices.decide``. Raises ``FarSideFailed`` for documents too
        hard to read.
        """
        try:
            found: PlaceDecisions = await self._ask("places", inputs)
        except TooHardError as error:
            raise _unplaced(error) from error
        return found

    async def rewritten(
        self, rules: list[PlaceRule], entries: list[tuple[str, PlaceEntry]], content: bytes
    ) -> bytes:
        """As ``core.restoring.place_choices.rewrite``; raises as :meth:`places`."""
        try:
            found: bytes = await self._ask("rewritten", rules, entries, content)
        except TooHardError as error:
            raise _unplaced(error) from error
        return found

    async def check_schedule(self, phrase: str, zone: str) -> None:
        """Raise ``BadInput`` for a schedule that cannot be parsed, has no occurrence, or takes too
        long to evaluate.
        """
        try:
            await self._ask("schedule", phrase, zone)
        except TooHardError as error:
            raise BadInput(
                f"{phrase!r} was given up: no due time was found within {self.limit:g} seconds.",
                "Choose days that there are, or write a phrase like `every day at 02:40`.",
                field="when",
            ) from error

    async def _ask(self, work: str, *given: Any, **named: Any) -> Any:
        async with self._room:
            one = self._idle.pop() if self._idle else _Process(await _begin(self.memory))
            if one.ending is not None:
                one.ending.cancel()
            try:
                async with asyncio.timeout(self.limit):
                    found = await one.ask(EvaluationAsked(work, given, named))
            except (TimeoutError, asyncio.IncompleteReadError, OSError) as error:
                await one.kill()
                why = (
                    f"it took more than {self.limit:g} seconds"
                    if isinstance(error, TimeoutError)
                    else _LOST
                )
                raise TooHardError(why) from error
            except BaseException:
                await one.kill()  # the caller was cancelled; the answer is dropped
                raise
            one.ending = asyncio.get_running_loop().call_later(_IDLE, self._end, one)
            self._idle.append(one)
        match found:
            case EvaluationDone(result):
                return result
            case EvaluationRefused(kind, what, remedy):
                raise kind(what, remedy)
            case TooHard(why):
                raise TooHardError(why)
            case Mistaken(what):
                raise RuntimeError(f"{work} failed in its process: {what}")

    def _end(self, one: _Process) -> None:
        if one in self._idle and one.process.stdin is not None:
            self._idle.remove(one)
            one.process.stdin.close()  # the process ends by itself

    async def close(self) -> None:
        idle, self._idle = self._idle, []
        for one in idle:
            if one.ending is not None:
                one.ending.cancel()
            await one.kill()


def _unplaced(error: TooHardError) -> FarSideFailed:
    return FarSideFailed(
        f"Values of the place cannot be found in the documents: {error}.",
        "Look for one that is much longer or stranger than before, and restore without its part.",
    )


async def _begin(memory: int) -> asyncio.subprocess.Process:
    program: Sequence[str] = (
        sys.executable,
        "-I",
        "-c",
        f"from {evaluator_process.__name__} import main; main()",
    )
    process = await asyncio.create_subprocess_exec(
        *program,
        str(memory),
        stdin=asyncio.subprocess.PIPE,
        stdout=asyncio.subprocess.PIPE,
        stderr=asyncio.subprocess.DEVNULL,
        limit=1 << 26,
        start_new_session=True,  # a signal to the terminal's process group must not reach it
    )
    assert process.stdout is not None
    try:
        async with asyncio.timeout(_BEGINNING):
            await process.stdout.readexactly(len(READY))
    except BaseException as error:
        process.kill()
        await process.wait()
        if isinstance(error, TimeoutError | asyncio.IncompleteReadError):
            raise TryLater(
                "A process that evaluates expressions did not start.", "Try again."
            ) from error
        raise
    return process
