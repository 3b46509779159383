"""The process that tests fork their programs from is first a service itself, where it is told so.

What is done for the first time takes longer: statements are compiled, kinds are read, shapes are
looked up. That was a quarter of what the tests of the service cost; forks of a process that has
done it need not do it again. See ``tests/seasoning.py`` for what it does.
"""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

FOLDER = "TESTS_FIRST_SERVICE"
"""Environment of a process that is to be a service first: the folder of its log."""

ENDED = "ended"
"""A file in that folder, once the process forks programs."""


def _serve(folder: Path) -> None:
    from fennox.cli.main import run as fennox
    from tests import forked_beside, statements

    statements.share()
    forked_beside.fork_beside()
    # the web server ends by the signal that it was given
    ending = signal.signal(signal.SIGTERM, signal.SIG_IGN)
    words, sys.argv = sys.argv, ["fennox", "serve"]
    with _written_to(folder / "log"), suppress(SystemExit):
        fennox()
    sys.argv = words
    signal.signal(signal.SIGTERM, ending)
    (folder / ENDED).touch()


@contextmanager
def _written_to(log: Path) -> Iterator[None]:
    kept = [os.dup(number) for number in (1, 2)]
    opened = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    for number in (1, 2):
        os.dup2(opened, number)
    os.close(opened)
    yield
    sys.stdout.flush()
    for number, before in zip((1, 2), kept, strict=True):
        os.dup2(before, number)
        os.close(before)


if FOLDER in os.environ:
    _serve(Path(os.environ[FOLDER]))
