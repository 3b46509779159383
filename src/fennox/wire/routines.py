"""Routines and what their ladders keep."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

Mode = Literal["on", "off", "by hand"]


class NewRoutine(Wanted):
    name: Noun
    systems: str = Field(description="Which systems: `all`, or terms like `kind=linux-server site=holm label=web`.")
    when: Annotated[str, Field(description="`every day at 02:40` or `every saturday at 23:15`.")]
    zone: str = Field(default="UTC", description="An IANA zone.")
    store: Noun
    copy_to: list[Noun] = Field(default=[], description="Further stores that get a copy of every backup.")
    ladder: str
    mode: Mode = "on"
    parts: list[Noun] | None = None


class RoutineChange(Wanted):
    systems: str | None = None
    when: str | None = None
    zone: str | None = None
    store: Noun | None = None
    copy_to: list[Noun] | None = None
    ladder: str | None = None
    mode: Mode | None = None


class RoutineShown(Shown):
    id: str
    name: str
    systems: str
    when: str
    zone: str
    store: str
    copy_to: list[str]
    ladder: str
    mode: Mode
    parts: list[str] | None
    created: Aware
    next_run: Aware | None
    members: list[str]
    last_due: Aware | None


class Kept(Shown):
    """One backup in a ladder's preview."""

    backup: str
    name: str
    time: Aware
    kept_by: list[str]
    goes: bool


class SystemPreview(Shown):
    system: str
    backups: list[Kept]


class RoutinePreview(Shown):
    routine: str
    next_runs: list[Aware]
    systems: list[SystemPreview]
    stays: int
    goes: int
