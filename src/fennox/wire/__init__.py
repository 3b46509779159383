"""Requests and responses of the API. Modules are loaded on first use (PEP 562), because a command
needs few of them and should start quickly.
"""

from __future__ import annotations

from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from fennox.wire import (
        access,
        backups,
        base,
        comparing,
        drops,
        kinds,
        ownstate,
        recovery,
        restores,
        routines,
        stores,
    )
    from fennox.wire.machines import deployments, enrolling, hazards, relations, sites, systems
    from fennox.wire.watch import alerts, clocks, concerns, runs, workers

__all__ = [
    "access",
    "alerts",
    "backups",
    "base",
    "clocks",
    "comparing",
    "concerns",
    "deployments",
    "drops",
    "enrolling",
    "hazards",
    "kinds",
    "ownstate",
    "recovery",
    "relations",
    "restores",
    "routines",
    "runs",
    "sites",
    "stores",
    "systems",
    "workers",
]

_FOLDERS = {
    "deployments": "machines",
    "enrolling": "machines",
    "hazards": "machines",
    "relations": "machines",
    "sites": "machines",
    "systems": "machines",
    "alerts": "watch",
    "clocks": "watch",
    "concerns": "watch",
    "runs": "watch",
    "workers": "watch",
}


def __getattr__(name: str) -> ModuleType:
    if name in __all__:
        folder = f".{_FOLDERS[name]}" if name in _FOLDERS else ""
        return import_module(f"fennox.wire{folder}.{name}")
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
