"""Processes beside a service (evaluators, carvers, its receiving end) as forks of that service,
which has imported what they need. A new interpreter for each was a fifth of what the service's
tests cost; the tests of the engine begin them as everywhere else.
"""

from __future__ import annotations

import asyncio
import ctypes
import importlib
import os
import re
import signal
import sys
import traceback
from asyncio.subprocess import Process
from collections.abc import Sequence
from functools import partial, wraps
from typing import Any, NoReturn

_PROGRAM = re.compile(r"from (fennox\.[\w.]+\.processes\.\w+) import (\w+); \2\(\)")
_SET_NAME = 15  # prctl(2)


def fork_beside() -> None:
    """From now on, in this process."""
    execute = asyncio.create_subprocess_exec

    @wraps(execute)
    async def fork(*words: Any, **named: Any) -> Process:
        for place, word in enumerate(words):
            if (told := _PROGRAM.fullmatch(str(word))) is not None:
                kept = tuple(named.get("pass_fds", ()))
                main = (told[1], told[2])
                named["preexec_fn"] = partial(_become, main, words[place + 1 :], kept)
        return await execute(*words, **named)

    asyncio.create_subprocess_exec = fork


def _become(main: tuple[str, str], given: Sequence[str], kept: Sequence[int]) -> NoReturn:
    """Run a module's function in the child instead of another program. Whoever began it waits for
    the end of a pipe that is among what is closed here.
    """
    code = 1
    try:
        signal.set_wakeup_fd(-1)
        for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(each, signal.SIG_DFL)
        for each in (
            signal.SIGPIPE,
            signal.SIGXFSZ,
        ):  # as an interpreter sets them, and Popen unsets
            signal.signal(each, signal.SIG_IGN)
        low = 3
        for number in (*sorted(kept), os.sysconf("SC_OPEN_MAX")):
            os.closerange(low, number)
            low = number + 1
        sys.argv = ["-c", *given]
        module, function = main
        ctypes.CDLL(None).prctl(_SET_NAME, module.rpartition(".")[2].encode())
        getattr(importlib.import_module(module), function)()
        code = 0
    except BaseException:
        traceback.print_exc()  # as an interpreter of its own would
        sys.stderr.flush()
        raise
    finally:
        os._exit(code)
