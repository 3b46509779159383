"""What a program need not do again after each fork: mappers are made, words are read, and no
collection goes through what is shared.
"""

from __future__ import annotations

import gc

import zxcvbn
from argon2 import PasswordHasher
from pydantic import BaseModel
from sqlalchemy.orm import configure_mappers

import fennox.catalogue.models
from fennox.service.people import passwords
from tests import programs

__all__ = ["fennox", "zxcvbn"]

REAL_HASHES = "TESTS_WITH_REAL_HASHES"
"""Environment of a program whose passwords cost as much as everywhere else."""


def cheapen_passwords() -> None:
    """Hashes that cost next to nothing: they were half of what the tests of the service cost."""
    passwords._hasher = PasswordHasher(time_cost=1, memory_cost=64, parallelism=1)
    passwords._NOBODY = passwords._hasher.hash("nobody")


def build_shapes() -> None:
    """Shapes are built when they are first used; here once for all forks."""
    waiting = [BaseModel]
    while waiting:
        model = waiting.pop()
        waiting += model.__subclasses__()
        if model.__module__.startswith("fennox."):
            model.model_rebuild()


configure_mappers()
build_shapes()
gc.collect()
gc.freeze()
programs.seldom_collect()
