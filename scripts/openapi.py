"""Prints the API's description (OpenAPI 3.1), sorted, as it is kept in docs/openapi.json."""

from __future__ import annotations

import json

from fennox.service.processes.app import make_app

if __name__ == "__main__":
    print(json.dumps(make_app(None).openapi(), indent=1, sort_keys=True))
