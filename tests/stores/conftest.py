from __future__ import annotations

import gc
import warnings
from collections.abc import Iterator

import pytest


@pytest.fixture(autouse=True)
def _late_sockets() -> Iterator[None]:
    """Libraries may finish closing a TLS connection after their last call; what they left is
    collected here.

    That nothing piles up is held by a test of its own, which counts open descriptors.
    """
    yield
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", ResourceWarning)
        gc.collect()
        gc.freeze()  # else each test searches what all before it have loaded
