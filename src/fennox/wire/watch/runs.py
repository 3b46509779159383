"""Runs, and the state of the estate."""

from __future__ import annotations

from typing import Literal, TypeVar

from pydantic import Field, SecretStr

from fennox.core.facts.run_orders import RunKind
from fennox.core.facts.run_results import RunResult, Told
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted
from fennox.wire.watch.concerns import Concern, Matter

ResultT = TypeVar("ResultT", bound=RunResult)
RunState = Literal["queued", "running", "waiting", "done", "failed", "stopped"]


class StepShown(Shown):
    title: str
    started: Aware
    ended: Aware | None
    attempt: int


class LogLine(Shown):
    id: int
    at: Aware
    level: Literal["info", "expected", "warning", "error"]
    text: str


class RunShown(Shown):
    id: str
    kind: RunKind
    state: RunState
    system: str | None
    store: str | None
    routine: str | None
    backup: str | None
    sheet: str | None
    by: str
    created: Aware
    started: Aware | None
    ended: Aware | None
    attempt: int
    stop_asked: bool
    wants_passphrase: bool
    waits_for: str = ""  # the run it waits behind, as a sentence; empty: none
    reason: str
    remedy: str
    problem: str | None
    step: str
    documents: int
    bytes: int
    expected_seconds: float | None
    outcome: str
    odd: str  # how it differs from earlier takes of the system, as text; empty: it does not
    steps: list[StepShown] = []
    result: Told | None = Field(
        default=None, description="What came of it; by its kind other facts."
    )

    def told(self, of: type[ResultT]) -> ResultT:
        """Its result of the given kind. Raises ``TypeError`` for another kind or none."""
        if not isinstance(self.result, of):
            raise TypeError(f"the {self.kind} {self.id} came to {self.result!r}")
        return self.result


class PassphraseWanted(Wanted):
    passphrase: SecretStr


class Status(Shown):
    at: Aware
    simulated_clock: bool
    concerns: list[Concern] = Field(description="The worst, of one cause only the first few.")
    matters: list[Matter] = Field(
        description="The same by their causes: the worst first, then what touches most."
    )
    concerns_in_all: int
    muted: int
    systems: int
    protected: int
    backups: int
    stores: int
    routines: int
    workers: int
    active_runs: int
