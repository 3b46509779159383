"""Processes beside a service (evaluators, carvers) as forks of that service, which has imported
what they need. A new interpreter for each was a fifth of what the service's tests cost; the tests
of the engine begin them as everywhere else.
"""

from __future__ import annotations

import asyncio
import importlib
import os
import re
import signal
import sys
from asyncio.subprocess import Process
from collections.abc import Sequence
from functools import partial, wraps
from typing import Any, NoReturn

_PROGRAM = re.compile(r"from (fennox\.engine\.processes\.\w+) import main; main\(\)")


def fork_beside() -> None:
    """From now on, in this process."""
    execute = asyncio.create_subprocess_exec

    @wraps(execute)
    async def fork(*words: Any, **named: Any) -> Process:
        told = _PROGRAM.fullmatch(words[3]) if len(words) > 3 else None
        if told:
            kept = tuple(named.get("pass_fds", ()))
            named["preexec_fn"] = partial(_become, told[1], words[4:], kept)
        return await execute(*words, **named)

    asyncio.create_subprocess_exec = fork


def _become(module: str, given: Sequence[str], kept: Sequence[int]) -> NoReturn:
    """Run the module's ``main`` in the child instead of another program. Whoever began it waits for
    the end of a pipe that is among what is closed here.
    """
    code = 1
    try:
        signal.set_wakeup_fd(-1)
        for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(each, signal.SIG_DFL)
        low = 3
        for number in (*sorted(kept), os.sysconf("SC_OPEN_MAX")):
            os.closerange(low, number)
            low = number + 1
        sys.argv = ["-c", *given]
        importlib.import_module(module).main()
        code = 0
    finally:
        os._exit(code)
