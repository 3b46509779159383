"""The main loop of an evaluating process, within a memory limit. Questions and answers are pickles,
each preceded by its length (8 bytes, little-endian), on pipes to the parent process alone. The
parent kills it if an answer takes too long.
"""

from __future__ import annotations

import pickle
import resource
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from fennox.core.compare import documents, value_search
from fennox.core.errors import FennoxError
from fennox.core.places import place_choices
from fennox.core.schedule import schedule
from fennox.engine.processes import drawn_facts

LENGTH = 8  # bytes
READY = b"ready\n"


def _schedule(phrase: str, zone: str) -> None:
    """Checks that a schedule can be parsed and has an occurrence."""
    schedule.parse(phrase, zone)


WORKS: dict[str, Callable[..., Any]] = {
    "changed": documents.changed,
    "values": value_search.values,
    "schedule": _schedule,
    "told": drawn_facts.told,
    "quiet": drawn_facts.quiet_digests,
    "places": place_choices.decide,
    "rewritten": place_choices.rewrite,
}
"""What can be asked for, by name: pure functions alone."""


class EvaluationAsked(NamedTuple):
    work: str
    given: tuple[Any, ...]
    named: dict[str, object]


class EvaluationRefused(NamedTuple):
    """One of our errors, about the question."""

    kind: type[FennoxError]
    what: str
    remedy: str


class TooHard(NamedTuple):
    """It exceeded the memory or recursion limit."""

    why: str


class Mistaken(NamedTuple):
    """A bug in Fennox. ``what`` contains no value, which may be a secret."""

    what: str


class EvaluationDone(NamedTuple):
    result: Any


def framed(message: object) -> bytes:
    data = pickle.dumps(message, protocol=5)
    return len(data).to_bytes(LENGTH, "little") + data


Answer = EvaluationDone | EvaluationRefused | TooHard | Mistaken


def answer(asked: EvaluationAsked) -> Answer:
    try:
        return EvaluationDone(WORKS[asked.work](*asked.given, **asked.named))
    except FennoxError as error:
        return EvaluationRefused(type(error), error.what, error.remedy)
    except MemoryError:
        return TooHard("it needs too much memory")
    except RecursionError:
        return TooHard("it is nested too deeply")
    except Exception as error:  # noqa: BLE001  # told to the process that asked, which raises it
        at = traceback.extract_tb(error.__traceback__)[-1]
        return Mistaken(f"{type(error).__name__} at {Path(at.filename).name}:{at.lineno}")


def main() -> None:
    """Runs until its input ends. Its only argument: bytes of address space allowed."""
    memory = int(sys.argv[1])
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    given, told = sys.stdin.buffer, sys.stdout.buffer
    told.write(READY)  # loading the modules may take longer than an answer
    told.flush()
    while length := given.read(LENGTH):
        asked: EvaluationAsked = pickle.loads(given.read(int.from_bytes(length, "little")))  # noqa: S301  # of our own process
        told.write(framed(answer(asked)))
        told.flush()
