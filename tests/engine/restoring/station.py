"""A simulated machine of the simplest kind: values with names, a state of rest, and commands that
are written down as they run. A value is given with its name, so that a proof sees it if two were
exchanged. The line can be cut before or after any command.
"""

from __future__ import annotations

from collections.abc import AsyncGenerator, AsyncIterator, Collection, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from dataclasses import dataclass, field

from fennox.core.errors import Unreachable
from fennox.links.base import Output, RemoteFiles, Running, SecondLink, ShellLanguage

KIND = """
name = "tide-station"
version = 1
title = "Tide station"
reach = "ssh"
port = 22

[identity]
id = { in = "who", regex = '^(\\w+)' }
product = { in = "who", regex = '(station)' }
version = { in = "who", regex = '(1)' }
[identity.run]
who = ["who"]

[[part]]
name = "values"
title = "Values"
essential = true
overwrites = "values of the same names"
[[part.source]]
each = ["list"]
run = ["get", "{each}"]
document = "values/{each}"

[census]
names = [{ in = "values/*", names = '^values/(.+)$' }]
contents = [{ in = "values/*", regex = '(?s)^(.*)$' }]

[requires]
product = "any"
version = "any"
platform = "any"

[[restore.prepare]]
title = "Bring the station to rest"
do = "command"
repeat = false
meanwhile = { state = "mode", says = "The station is at rest: nobody measures the tide." }
run = ["rest"]

[[restore.prepare]]
title = "Have somebody look"
do = "gate"
ask = "Look at the tide."

[[restore.finish]]
title = "Set every value"
do = "command"
parts = ["values"]
undone = false
each = { names = "all", list = "names" }
document = "values/{name}"
run = ["set", "{name}"]

[[restore.check]]
title = "The station is sound"
do = "check"
run = ["sound"]
expect = "^sound"

[[restore.release]]
title = "Have the station measure again"
do = "command"
ends = "Bring the station to rest"
run = ["wake"]

[[restore.clear]]
title = "Forget values that the restore added"
do = "command"
each = { names = "extra", list = "names" }
run = ["forget", "{name}"]

[[restore.undo]]
title = "Have the station measure, given up"
undoes = "Bring the station to rest"
do = "command"
run = ["wake"]
"""
LOOKING = {"who", "list", "get", "sound"}


@dataclass
class Station:
    """``ran``: commands that change something, in their order. ``cut_in``: so many commands later
    the line is cut, ``after`` that command or before it.
    """

    values: dict[str, str] = field(default_factory=dict)
    at_rest: bool = False
    sound: bool = True
    ran: list[str] = field(default_factory=list)
    cut_in: int | None = None
    after: bool = False

    def state(self) -> tuple[dict[str, str], bool]:
        return dict(self.values), self.at_rest

    def obey(self, words: list[str], given: bytes) -> Output:
        cut = False
        if self.cut_in is not None and words[0] not in LOOKING:
            self.cut_in -= 1
            cut = self.cut_in < 0
        if cut and not self.after:
            self.cut_in = None
            raise _cut()
        done = self._done(words, given)
        if cut:
            self.cut_in = None
            raise _cut()
        return done

    def _done(self, words: list[str], given: bytes) -> Output:
        if words[0] not in LOOKING:
            self.ran.append(" ".join(words))
        match words:
            case ["who"]:
                return Output(0, b"gauge7 station 1\n", "")
            case ["list"]:
                return Output(0, "".join(f"{name}\n" for name in sorted(self.values)).encode(), "")
            case ["get", name]:
                return Output(0, f"{name}={self.values[name]}".encode(), "")
            case ["sound"]:
                return Output(0, b"sound" if self.sound else b"broken", "")
            case ["set", name]:
                self.values[name] = given.decode().removeprefix(f"{name}=")
            case ["forget", name]:
                self.values.pop(name, None)
            case ["rest"] | ["rest", "gently"]:
                self.at_rest = True
            case ["wake"]:
                self.at_rest = False
            case _:
                return Output(127, b"", f"{words[0]}: not known here")
        return Output(0, b"", "")


def _cut() -> Unreachable:
    return Unreachable("The connection to the station was cut.", "Try again.")


@dataclass
class _Answer:
    output: Output

    async def blocks(self) -> AsyncGenerator[bytes, None]:
        yield self.output.output

    async def ended(self) -> Output:
        return Output(self.output.code, b"", self.output.errors)


@dataclass
class StationLink:
    """A shell on the station."""

    station: Station
    language: ShellLanguage = "posix"
    secrets: Mapping[str, str | None] = field(default_factory=dict)
    beside: SecondLink | None = None
    fingerprint: str = "SHA256:station"

    async def run(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None, limit: float = 60
    ) -> Output:
        given = b"".join([block async for block in feed]) if feed is not None else b""
        return self.station.obey(words, given)

    async def ask(self, questions: Sequence[list[str]], *, limit: float = 60) -> list[Output]:
        return [self.station.obey(words, b"") for words in questions]

    @asynccontextmanager
    async def series(
        self, questions: Sequence[list[str]], *, heard: Collection[int] = ()
    ) -> AsyncIterator[AsyncIterator[Running]]:
        async def answers() -> AsyncIterator[Running]:
            for words in questions:
                yield _Answer(self.station.obey(words, b""))

        yield answers()

    @asynccontextmanager
    async def stream(
        self, words: list[str], *, feed: AsyncIterator[bytes] | None = None
    ) -> AsyncIterator[Running]:
        yield _Answer(await self.run(words, feed=feed))

    def files(self) -> AbstractAsyncContextManager[RemoteFiles]:
        raise NotImplementedError("the station has no files")

    async def close(self) -> None:
        pass
