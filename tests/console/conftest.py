from __future__ import annotations

from tests.engine.conftest import install, key_pair
from tests.service.conftest import server, service

__all__ = ["install", "key_pair", "server", "service"]
