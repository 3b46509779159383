"""Answers of commands that ran in one script: each comes back as it was written, however the stream
is cut.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import Unreachable
from fennox.links.base import Credential
from fennox.links.secure_shell.command_series import Errors, Series
from saltmere.linux import LinuxServer
from tests.engine.reading.test_reaching import reached

Install = Callable[..., LinuxServer]
MARK = "5a" * 16


@dataclass(frozen=True)
class Command:
    output: bytes
    code: int
    errors: bytes | None  # None: nobody wants to hear them


def commands() -> st.SearchStrategy[Command]:
    # what looks like the beginning of a mark is the hard part
    pieces = st.lists(
        st.sampled_from([b"\n", b"5a" * 15, b"\n5a5a", b" 0\n", b"x", b"\0"])
        | st.binary(max_size=40)
    )
    said = st.none() | st.text("abc d", max_size=20).map(str.encode)
    return st.builds(Command, pieces.map(b"".join), st.integers(0, 255), said)


def in_blocks(data: bytes, sizes: Sequence[int]) -> list[bytes]:
    found: list[bytes] = []
    at = 0
    while at < len(data):
        size = sizes[len(found) % len(sizes)]
        found.append(data[at : at + size])
        at += size
    return found


class Blocks:
    def __init__(self, blocks: list[bytes]) -> None:
        self.left = blocks

    async def read(self, _most: int) -> bytes:
        await asyncio.sleep(0)
        return self.left.pop(0) if self.left else b""


async def each(blocks: list[bytes]) -> AsyncIterator[bytes]:
    for block in blocks:
        await asyncio.sleep(0)
        yield block


async def answers(written: list[Command], sizes: Sequence[int], lost: int = 0) -> list[Command]:
    """What is made of the script's output, of which the last ``lost`` bytes never come."""
    output = b"".join(one.output + f"\n{MARK} {one.code}\n".encode() for one in written)
    said = b"".join(one.errors + MARK.encode() for one in written if one.errors is not None)
    errors = Errors(MARK.encode())
    hearing = asyncio.create_task(errors.read(Blocks(in_blocks(said, sizes))))
    blocks = in_blocks(output[: len(output) - lost], sizes)
    series = Series(each(blocks), MARK, errors, Unreachable("cut", "again"))
    heard = {number for number, one in enumerate(written) if one.errors is not None}
    found: list[Command] = []
    try:
        async for answer in series.answers(len(written), heard):
            kept = b"".join([block async for block in answer.blocks()])
            ended = await answer.ended()
            found.append(
                Command(kept, ended.code, ended.errors.encode() if len(found) in heard else None)
            )
    finally:
        await hearing
    return found


@given(st.lists(commands(), max_size=5), st.lists(st.integers(1, 70), min_size=1, max_size=4))
async def test_every_answer_is_what_was_written(written: list[Command], sizes: list[int]) -> None:
    said = [None if one.errors is None else one.errors.strip() for one in written]
    expected = [
        Command(one.output, one.code, errors) for one, errors in zip(written, said, strict=True)
    ]
    assert await answers(written, sizes) == expected


@given(
    st.lists(commands(), min_size=1, max_size=3),
    st.lists(st.integers(1, 70), min_size=1),
    st.integers(1, 30),
)
async def test_a_stream_that_ends_early_is_a_connection_that_was_cut(
    written: list[Command], sizes: list[int], lost: int
) -> None:
    with pytest.raises(Unreachable):
        await answers(written, sizes, lost)


async def test_what_commands_say_beside_their_output_is_told_of_each(
    install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    words = [
        ["sh", "-c", "echo one >&2; echo two >&2; echo out; exit 3"],
        ["sh", "-c", "echo not heard >&2"],
        ["true"],
        ["sh", "-c", "head -c 300000 /dev/zero; echo long >&2"],
    ]
    async with reached(server, Credential("root", private_key=key_pair[0])) as link:
        found = []
        async with link.series(words, heard={0, 2, 3}) as series:
            async for running in series:
                size = sum([len(block) async for block in running.blocks()])
                ended = await running.ended()
                found.append((size, ended.code, ended.errors))
        assert found == [(4, 3, "one | two"), (0, 0, ""), (0, 0, ""), (300_000, 0, "long")]
        assert link.usable, "it serves for the next run"


async def test_a_series_of_which_the_last_answer_was_read_spoils_nothing(
    install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    async with reached(server, Credential("root", private_key=key_pair[0])) as link:
        for words in ([["echo", "a"]], [["echo", "a"], ["echo", "b"]]):
            async with link.series(words) as series:
                for _ in words:
                    assert (await (await anext(series)).ended()).code == 0
            assert link.usable


async def test_a_series_that_is_left_in_the_middle_spoils_its_connection(
    install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    async with reached(server, Credential("root", private_key=key_pair[0])) as link:

        async def leave() -> None:
            async with link.series([["echo", "a"], ["sleep", "600"]]) as series:
                await anext(series)
                raise RuntimeError("the run ends here")

        with pytest.raises(RuntimeError):
            await leave()
        assert not link.usable
