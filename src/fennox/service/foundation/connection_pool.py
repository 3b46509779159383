"""Probing database connections after idle time only, since probing every time would cost a round
trip per transaction; and the orderly end of a pool.
"""

from __future__ import annotations

import asyncio
import time
from contextlib import suppress
from typing import Any

from sqlalchemy import event
from sqlalchemy.exc import InvalidatePoolError
from sqlalchemy.ext.asyncio import AsyncEngine
from sqlalchemy.pool import QueuePool

_IDLE = 1  # seconds; a database that is back sooner costs one failed query
_USED = "last used"
_GIVEN_BACK_WITHIN = 5.0  # seconds
_PAUSE = 0.01  # seconds


def ask_the_idle(engine: AsyncEngine) -> None:
    """As the pool's own ``pre_ping``, which probes at every checkout."""
    dialect, pool = engine.dialect, engine.sync_engine.pool

    def used(_connection: Any, record: Any) -> None:
        record.info[_USED] = time.monotonic()

    def taken(connection: Any, record: Any, _proxy: Any) -> None:
        if time.monotonic() - record.info.get(_USED, time.monotonic()) <= _IDLE:
            return
        try:
            dialect.do_ping(connection)
        except dialect.loaded_dbapi.Error as error:
            # the other connections are no better; the pool makes new ones
            raise InvalidatePoolError from error

    event.listen(pool, "checkin", used)
    event.listen(pool, "checkout", taken)


async def close(engine: AsyncEngine) -> None:
    """Wait until tasks that were just cancelled have given their connections back, which they do in
    the background, and end the pool. What is not given back in time is dropped with the process.
    """
    pool = engine.sync_engine.pool
    assert isinstance(pool, QueuePool)
    with suppress(TimeoutError):
        async with asyncio.timeout(_GIVEN_BACK_WITHIN):
            while pool.checkedout():  # noqa: ASYNC110 - the pool tells of it before it is done
                await asyncio.sleep(_PAUSE)
    await engine.dispose()
