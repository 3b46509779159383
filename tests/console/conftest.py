from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser

from tests.console.browser import chromium
from tests.engine.conftest import install, key_pair
from tests.service.conftest import server, service

__all__ = ["install", "key_pair", "server", "service"]


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with chromium() as made:
        yield made
