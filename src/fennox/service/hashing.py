"""Hashes of passphrases and passwords: slow on purpose, so never on the event loop nor inside a session.

One at a time in a process: two Argon2id hashes with several lanes in two threads have waited for each other for ever.
"""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable
from typing import TypeVar

from fennox.service import sessions

T = TypeVar("T")

_one_at_a_time = threading.Lock()


async def hashed(work: Callable[[], T]) -> T:
    sessions.check_outside("hash of a password")

    def alone() -> T:
        with _one_at_a_time:
            return work()

    return await asyncio.to_thread(alone)
