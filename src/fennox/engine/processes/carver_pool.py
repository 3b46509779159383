"""Processes beside this one that carve contents, because Python lets only one thread of a process
run at a time.
"""

from __future__ import annotations

import asyncio
import os
import pickle
import secrets
import sys
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from mmap import mmap
from typing import Any

import structlog

from fennox.core.format.carving import Carved, Recipe, carve
from fennox.engine.processes import carver_process
from fennox.engine.processes.carver_process import (
    LENGTH,
    PLACE,
    PLACES,
    CarverAnswer,
    CarverQuestion,
    answered,
    framed,
    lay,
)

log: Any = structlog.get_logger()

_MOST = 4  # processes
_AGAIN = 300  # seconds before processes are started again after a failure
_PATIENCE = 10  # seconds a process may take to end
_IDLE = 300  # seconds before idle processes are ended

Coming = asyncio.Future[list[Carved]]


@dataclass(eq=False)
class Carver:
    """One process, its shared memory, and the callers waiting for answers, in order."""

    process: asyncio.subprocess.Process
    memory: mmap
    waiting: deque[tuple[int, Coming]] = field(default_factory=deque)
    reading: asyncio.Task[None] = field(init=False)

    def __post_init__(self) -> None:
        self._free = set(range(PLACES))
        self.reading = asyncio.create_task(self._read())

    def ask(self, contents: Sequence[bytes], recipe: Recipe) -> Coming:
        if self.reading.done():
            raise BrokenPipeError("it no longer answers")
        assert self.process.stdin is not None
        coming: Coming = asyncio.get_running_loop().create_future()
        place = self._free.pop()
        self.process.stdin.write(
            framed(CarverQuestion(place, lay(self.memory, place, contents), recipe))
        )
        self.waiting.append((place, coming))
        return coming

    async def _read(self) -> None:
        assert self.process.stdout is not None
        try:
            while True:
                length = int.from_bytes(await self.process.stdout.readexactly(LENGTH), "little")
                data = await self.process.stdout.readexactly(length)
                # from our own process over our own pipe
                answer: CarverAnswer = pickle.loads(data)  # noqa: S301
                place, coming = self.waiting.popleft()
                coming.set_result(answered(self.memory, place, answer))
                self._free.add(place)
        except asyncio.IncompleteReadError:
            pass  # the process ended; callers still waiting get an error below
        finally:
            for _, coming in self.waiting:
                coming.set_exception(BrokenPipeError("it no longer answers"))

    def end(self) -> None:
        """Ends once it has answered all questions."""
        assert self.process.stdin is not None
        self.process.stdin.close()

    async def ended(self) -> None:
        await asyncio.wait([self.reading], timeout=_PATIENCE)
        if not self.reading.done():
            self.process.kill()  # the process is paused (SIGSTOP)
        await self.reading
        await self.process.wait()
        self.memory.close()


class Carvers:
    """The processes of one service or worker. They start on first use and end when idle. If one
    dies, or none can be started, the work is done in this process for a while, only slower.
    """

    def __init__(self, count: int | None = None) -> None:
        self._count = count if count is not None else min(os.cpu_count() or 1, _MOST)
        self._held: list[Carver] = []
        self._leaving: set[asyncio.Task[None]] = set()
        self._room = asyncio.Semaphore(self._count * PLACES)
        self._beginning = asyncio.Lock()
        self._ending: asyncio.TimerHandle | None = None
        self._not_before = 0.0  # on the loop's clock

    async def carve(self, contents: Sequence[bytes], recipe: Recipe) -> list[Carved]:
        """As ``core.format.carving.carve``."""
        if (
            sum(map(len, contents)) <= PLACE
            and asyncio.get_running_loop().time() >= self._not_before
        ):
            try:
                coming = await self._asked(contents, recipe)
                # a cancelled caller keeps its place until the answer arrives
                return await asyncio.shield(coming)
            except OSError as error:
                await self._give_up(error)
        return await asyncio.to_thread(carve, contents, recipe, secrets.token_bytes)

    async def _asked(self, contents: Sequence[bytes], recipe: Recipe) -> Coming:
        await self._room.acquire()
        try:
            held = await self._begun()
            coming = min(held, key=lambda carver: len(carver.waiting)).ask(contents, recipe)
        except BaseException:
            self._room.release()
            raise
        coming.add_done_callback(self._come)
        return coming

    def _come(self, coming: Coming) -> None:
        self._room.release()
        coming.exception()  # the caller may have been cancelled; then the answer is dropped

    async def _give_up(self, error: OSError) -> None:
        """Once for all that were waiting."""
        now = asyncio.get_running_loop().time()
        if now >= self._not_before:
            log.warning(
                "a process that cuts and seals failed; that is done here for a while",
                reason=str(error),
            )
            self._not_before = now + _AGAIN
            await self.close()

    async def _begun(self) -> list[Carver]:
        async with self._beginning:
            while len(self._held) < self._count:
                self._held.append(await _begin())
        if self._ending is not None:
            self._ending.cancel()
        self._ending = asyncio.get_running_loop().call_later(_IDLE, self._end)
        return self._held

    def _end(self) -> None:
        for carver in self._held:
            carver.end()
            ended = asyncio.create_task(carver.ended())
            self._leaving.add(ended)
            ended.add_done_callback(self._leaving.discard)
        self._held = []

    async def close(self) -> None:
        if self._ending is not None:
            self._ending.cancel()
        self._end()
        await asyncio.gather(*self._leaving)


async def _begin() -> Carver:
    shared = os.memfd_create("fennox-carver")
    try:
        os.ftruncate(shared, PLACES * PLACE)
        memory = mmap(shared, PLACES * PLACE)
        process = await asyncio.create_subprocess_exec(
            *(
                sys.executable,
                "-I",
                "-c",
                f"from {carver_process.__name__} import main; main()",
                str(shared),
            ),
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            pass_fds=[shared],
            start_new_session=True,  # a signal to the terminal's process group must not reach it
        )
    finally:
        os.close(shared)
    return Carver(process, memory)
