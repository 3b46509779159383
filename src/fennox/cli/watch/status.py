"""``fennox status``: sends its requests first and loads the display code meanwhile, which takes as
long.
"""

from __future__ import annotations

import argparse
from typing import TypedDict

from fennox.cli.main import Environment
from fennox.cli.signed_in import client


class _Table(TypedDict):
    """Which systems are listed, as in the API call."""

    retired: bool
    spare: bool
    sort: str
    down: bool
    limit: int


TABLE: _Table = {
    "retired": False,
    "spare": False,
    "sort": "newest_good",
    "down": False,
    "limit": 20,
}


def status(arguments: argparse.Namespace, environment: Environment) -> None:
    plain = arguments.json or arguments.quiet
    with client(environment) as service:
        service.ask_ahead("/status")
        if not plain:
            service.ask_ahead("/systems", **TABLE)
        from fennox.cli.watch import overview  # meanwhile

        found = service.status()
        if arguments.quiet:
            overview.ids(found)
        elif arguments.json:
            overview.as_json(found, service.systems())
        else:
            overview.for_people(found, service.systems(**TABLE))
