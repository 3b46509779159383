"""What runs in a process that evaluates what people and machines supply, within limits of memory.

Questions and answers are pickles, each behind its length (8 bytes, little-endian), on pipes whose other ends only the
process that began this one holds. It is killed if an answer takes too long.
"""

from __future__ import annotations

import pickle
import resource
import sys
from collections.abc import Callable
from typing import Any, NamedTuple

from fennox.core import schedule
from fennox.core.compare import documents, looking
from fennox.core.errors import FennoxError

LENGTH = 8  # bytes
READY = b"ready\n"
_MEMORY = 1 << 30  # bytes of address space


def _schedule(phrase: str, zone: str) -> None:
    """Whether it can be read, and ever comes."""
    schedule.parse(phrase, zone)


WORKS: dict[str, Callable[..., Any]] = {
    "changed": documents.changed, "values": looking.values, "schedule": _schedule,
}  # fmt: skip
"""What can be asked for, by name: pure functions alone."""


class Asked(NamedTuple):
    work: str
    given: tuple[Any, ...]
    named: dict[str, Any]


class Refused(NamedTuple):
    """An error of ours, which says what is wrong with what was asked."""

    kind: type[FennoxError]
    what: str
    remedy: str


class TooHard(NamedTuple):
    """It needs more memory, or goes deeper, than is allowed."""

    why: str


class Done(NamedTuple):
    result: Any


def framed(message: object) -> bytes:
    data = pickle.dumps(message, protocol=5)
    return len(data).to_bytes(LENGTH, "little") + data


def answer(asked: Asked) -> Done | Refused | TooHard:
    try:
        return Done(WORKS[asked.work](*asked.given, **asked.named))
    except FennoxError as error:
        return Refused(type(error), error.what, error.remedy)
    except (MemoryError, RecursionError) as error:
        return TooHard(type(error).__name__)


def main() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    given, told = sys.stdin.buffer, sys.stdout.buffer
    told.write(READY)  # loading all this may take longer than an answer
    told.flush()
    while length := given.read(LENGTH):
        asked: Asked = pickle.loads(given.read(int.from_bytes(length, "little")))  # noqa: S301  # of our own process
        told.write(framed(answer(asked)))
        told.flush()
