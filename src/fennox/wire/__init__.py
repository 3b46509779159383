"""What the API takes and answers. A module is loaded when it is first asked for (PEP 562), since a
command needs few of them and should start at once.
"""

from __future__ import annotations

from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from fennox.wire import (
        access,
        alerts,
        backups,
        base,
        clocks,
        comparing,
        concerns,
        enrolling,
        kinds,
        ownstate,
        recovery,
        relations,
        restores,
        routines,
        runs,
        sites,
        stores,
        systems,
        workers,
    )

__all__ = [
    "access",
    "alerts",
    "backups",
    "base",
    "clocks",
    "comparing",
    "concerns",
    "enrolling",
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


def __getattr__(name: str) -> ModuleType:
    if name in __all__:
        return import_module(f"fennox.wire.{name}")
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
