"""What a program need not do again after each fork: mappers are made, and no collection goes
through what is shared.
"""

from __future__ import annotations

import gc

from sqlalchemy.orm import configure_mappers

import fennox.catalogue.models

__all__ = ["fennox"]

configure_mappers()
gc.collect()
gc.freeze()
