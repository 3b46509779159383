"""Hashing passphrases and passwords: deliberately slow, so never on the event loop or inside a
session.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import TypeVar

from fennox.core.format.slots import ONE_AT_A_TIME
from fennox.service.foundation import session_guard

T = TypeVar("T")


async def hashed(work: Callable[[], T]) -> T:
    session_guard.check_outside("hash of a password")

    def alone() -> T:
        with ONE_AT_A_TIME:
            return work()

    return await asyncio.to_thread(alone)
