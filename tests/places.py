"""Loopback addresses and ports for servers that tests start, distinct for parallel test
processes.
"""

from __future__ import annotations

import itertools
import os
import socket

_count = itertools.count(1)


def loopback() -> str:
    """An address of this test process alone."""
    process = os.getpid()
    return f"127.{64 + process % 128}.{process // 128 % 256}.{next(_count) % 254 + 1}"


def free_port(host: str) -> int:
    with socket.socket() as probe:
        probe.bind((host, 0))
        return int(probe.getsockname()[1])
