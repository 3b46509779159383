from __future__ import annotations

from tests.database import database, postgres
from tests.engine.conftest import install, key_pair
from tests.service.conftest import server, service

__all__ = ["database", "install", "key_pair", "postgres", "server", "service"]
