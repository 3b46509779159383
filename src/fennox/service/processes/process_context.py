"""Opening what every process of the service works with: clock, key file, database."""

from __future__ import annotations

import asyncio
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import structlog

from fennox.core.errors import TryLater
from fennox.service.foundation import key_file, memory, session_guard
from fennox.service.foundation.clock import SimulatedClock, real_now
from fennox.service.foundation.fair_share import Turns
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context, open_context

log: Any = structlog.get_logger()

_TRIES = 10  # attempts to open the database, a second apart


async def open_process(
    settings: Settings, clock: Path | None, turns: Turns | None = None
) -> Context:
    """``clock``: the socket of a simulated one. Raises TryLater and MendSettings."""
    if not memory.keep_small():
        log.warning("memory may grow", reason="the C library does not report how it keeps memory")
    session_guard.strict = settings.strict_sessions
    clock_set = asyncio.Event()
    loop = asyncio.get_running_loop()

    def told() -> None:
        with suppress(RuntimeError):  # it is over
            loop.call_soon_threadsafe(clock_set.set)

    now = SimulatedClock(clock, told).now if clock else real_now
    wrapping = settings.token() if settings.key_keeper == "pkcs11" else None
    keys = key_file.load(settings.state, settings.key_keeper, settings.credentials, wrapping)
    simulated = clock is not None
    opening = partial(
        open_context, settings, now, keys, simulated=simulated, turns=turns, clock_set=clock_set
    )
    for _ in range(_TRIES):
        with suppress(TryLater):  # it was reachable a moment ago
            return await opening()
        await asyncio.sleep(1)
    return await opening()
