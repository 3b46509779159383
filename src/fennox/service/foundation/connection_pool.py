"""Connections to the database that lay idle are asked whether they are still there; those in use
are not.

To ask every time costs a turn to the database for every transaction.
"""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import event
from sqlalchemy.exc import InvalidatePoolError
from sqlalchemy.ext.asyncio import AsyncEngine

_IDLE = 1  # seconds; a database that is back sooner has cost one question
_USED = "last used"


def ask_the_idle(engine: AsyncEngine) -> None:
    """As the pool's own ``pre_ping``, which asks every time that a connection is taken."""
    dialect, pool = engine.dialect, engine.sync_engine.pool

    def used(_connection: Any, record: Any) -> None:
        record.info[_USED] = time.monotonic()

    def taken(connection: Any, record: Any, _proxy: Any) -> None:
        if time.monotonic() - record.info.get(_USED, time.monotonic()) <= _IDLE:
            return
        try:
            dialect.do_ping(connection)
        except dialect.loaded_dbapi.Error as error:
            # the others are no better; the pool makes a new one
            raise InvalidatePoolError from error

    event.listen(pool, "checkin", used)
    event.listen(pool, "checkout", taken)
