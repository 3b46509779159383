"""Probing database connections after idle time only. Probing every time would cost a round trip per
transaction.
"""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import event
from sqlalchemy.exc import InvalidatePoolError
from sqlalchemy.ext.asyncio import AsyncEngine

_IDLE = 1  # seconds; a database that is back sooner costs one failed query
_USED = "last used"


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
