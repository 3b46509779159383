"""What a proof holds: census lists at three moments, and the checks of a restore."""

from __future__ import annotations

from fennox.core.places.sheet_model import SheetModel
from fennox.core.time import Aware


class ListProof(SheetModel):
    """One census list at three moments, with the missing and the extra names."""

    name: str
    backup: int
    fresh: int | None  # None if the fresh target was not counted
    after: int
    missing: list[str]
    extra: list[str]


class CheckProof(SheetModel):
    title: str
    passed: bool
    detail: str


class Proof(SheetModel):
    proved: bool
    lists: list[ListProof]
    left_out_lists: list[str]
    checks: list[CheckProof]
    machine: list[ListProof] = []  # of the machine itself: no part of the verdict
    at: Aware
