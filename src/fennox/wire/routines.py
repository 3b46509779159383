"""Routines and what their ladders keep."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fennox.core.names import Noun
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

Mode = Literal["on", "off", "by hand"]


Minutes = Annotated[int, Field(ge=0, le=10_080)]
Spread = Annotated[
    int,
    Field(ge=0, le=1440, description="Minutes over which its systems begin, each at its place."),
]


class NewRoutine(Wanted):
    name: Noun
    systems: str = Field(
        description="Which systems: `all`, or terms like `kind=linux-server site=holm label=web`."
    )
    when: Annotated[
        str,
        Field(
            description=(
                "A phrase like `every day at 02:40`, a recurrence rule (RFC 5545), or a cron line."
            ),
            max_length=500,
        ),
    ]
    zone: str = Field(default="UTC", description="An IANA zone.")
    store: Noun
    copy_to: list[Noun] = Field(
        default=[], description="Further stores that get a copy of every backup."
    )
    ladder: str
    mode: Mode = "on"
    parts: list[Noun] | None = None
    spread: Spread = 0
    quiet: str = Field(
        default="",
        description="Hours in which nothing begins, like `08:00 to 18:00`.",
        max_length=40,
    )
    look_every: Minutes = Field(
        default=0, description="Minutes between looks whether a system differs; 0: no looks."
    )
    settle: Minutes = Field(
        default=10, description="Minutes a difference must stand before it is taken."
    )
    most_a_day: int = Field(
        default=4, ge=1, le=96, description="Takes in a day because something differs."
    )
    run_now: bool = Field(default=False, description="Also take every system once, at once.")


class RoutineChange(Wanted):
    systems: str | None = None
    when: str | None = None
    zone: str | None = None
    store: Noun | None = None
    copy_to: list[Noun] | None = None
    ladder: str | None = None
    mode: Mode | None = None
    parts: list[Noun] | None = None
    spread: Spread | None = None
    quiet: str | None = Field(default=None, max_length=40)
    look_every: Minutes | None = None
    settle: Minutes | None = None
    most_a_day: int | None = Field(default=None, ge=1, le=96)


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
    spread: int
    quiet: str
    look_every: int
    settle: int
    most_a_day: int
    created: Aware
    next_run: Aware | None
    members: list[str] = Field(description="The first 50 of the systems that it takes, by name.")
    in_all: int = Field(description="How many systems it takes.")
    last_due: Aware | None


class Kept(Shown):
    """One backup in a ladder's preview."""

    backup: str
    name: str
    time: Aware
    kept_by: list[str]
    goes: bool
    goes_at: Aware | None = Field(
        description="When nothing keeps it any more, at the earliest; null: no end is known."
    )


class SystemPreview(Shown):
    system: str
    backups: list[Kept]


class Load(Shown):
    """One hour of the coming two weeks: number of starting runs, and their expected seconds."""

    hour: Aware
    runs: int
    seconds: float


class Collision(Shown):
    """Runs of one system that fall due while an earlier one is expected to run; the later one
    waits.
    """

    system: str
    at: Aware
    routine: str
    waits_for: str


class Coming(Shown):
    """The coming two weeks of all routines."""

    load: list[Load]
    collisions: list[Collision]
    slots: int


class RoutinePreview(Shown):
    """``stays`` and ``goes`` count the backups of the systems shown."""

    routine: str
    next_runs: list[Aware]
    systems: list[SystemPreview] = Field(
        description="By name, the first 50 of those it takes; or the one asked for."
    )
    in_all: int = Field(description="How many systems it takes.")
    stays: int
    goes: int
