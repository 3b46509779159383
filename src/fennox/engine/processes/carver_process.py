"""The main loop of a carving process: answers questions until its input ends. Contents and sealed
chunks are in shared memory with room for ``PLACES`` questions. Questions and answers are pickles,
each preceded by its length (8 bytes, little-endian), on pipes to the parent process alone.
"""

from __future__ import annotations

import os
import pickle
import secrets
import sys
from collections.abc import Iterable, Sequence
from mmap import mmap
from typing import BinaryIO, NamedTuple

from fennox.core.format.carving import Carved, Recipe, carve

PLACES = 4
PLACE = 3 * 1024 * 1024  # bytes of one question's contents, and then of its answer's chunks
LENGTH = 8  # bytes
_NICE = 5  # the caller has priority; this process runs on another core, or waits


class CarverQuestion(NamedTuple):
    """Lengths of consecutive contents at a place."""

    place: int
    lengths: list[int]
    recipe: Recipe


class CarverAnswer(NamedTuple):
    """The result; ``lengths`` of the sealed chunks now at the place, unless there was no room."""

    carved: list[Carved]
    lengths: list[int]


def framed(message: object) -> bytes:
    data = pickle.dumps(message, protocol=5)
    return len(data).to_bytes(LENGTH, "little") + data


def lay(memory: mmap, place: int, contents: Iterable[bytes]) -> list[int]:
    """Put contents at a place; their lengths."""
    at, lengths = place * PLACE, []
    for content in contents:
        memory[at : at + len(content)] = content
        at += len(content)
        lengths.append(len(content))
    return lengths


def lying(memory: mmap, place: int, lengths: Sequence[int]) -> list[bytes]:
    """What lies at a place."""
    at, found = place * PLACE, []
    for length in lengths:
        found.append(memory[at : at + length])
        at += length
    return found


def _answer(memory: mmap, question: CarverQuestion) -> CarverAnswer:
    contents = lying(memory, question.place, question.lengths)
    carved = carve(contents, question.recipe, secrets.token_bytes)
    sealed = [cut.sealed for each in carved for cut in each.cuts if cut.sealed is not None]
    if sum(map(len, sealed)) > PLACE:
        return CarverAnswer(carved, [])
    lengths = lay(memory, question.place, sealed)
    return CarverAnswer(
        [Carved(each.digest, [cut._replace(sealed=None) for cut in each.cuts]) for each in carved],
        lengths,
    )


def answered(memory: mmap, place: int, answer: CarverAnswer) -> list[Carved]:
    """An answer with its sealed chunks."""
    if not answer.lengths:
        return answer.carved
    sealed = iter(lying(memory, place, answer.lengths))
    return [
        Carved(each.digest, [cut._replace(sealed=next(sealed)) for cut in each.cuts])
        for each in answer.carved
    ]


def serve(memory: mmap, asks: BinaryIO, answers: BinaryIO) -> None:
    while length := asks.read(LENGTH):
        question: CarverQuestion = pickle.loads(asks.read(int.from_bytes(length, "little")))  # noqa: S301  # of our own
        answers.write(framed(_answer(memory, question)))
        answers.flush()


def main() -> None:
    os.nice(_NICE)
    try:
        with mmap(int(sys.argv[1]), PLACES * PLACE) as memory:
            serve(memory, sys.stdin.buffer, sys.stdout.buffer)
    except (BrokenPipeError, EOFError, pickle.UnpicklingError):
        sys.exit(1)  # the caller is gone, possibly in the middle of a question
