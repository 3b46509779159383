"""Results of runs as facts; lists, pages and concerns render words from them. Pure."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter


class _Result(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class TakeResult(_Result):
    """Sizes in bytes. ``changed``, ``new``, ``gone``: documents since the previous backup; None:
    unknown.
    """

    kind: Literal["take"] = "take"
    backup: str
    documents: int
    bytes: int
    new_bytes: int
    objects: int
    unchanged: bool
    changed: int | None = None
    new: int | None = None
    gone: int | None = None


class LookResult(_Result):
    """``differs``: how the system differs from its last backup, as text; empty: it does not."""

    kind: Literal["look"] = "look"
    differs: str


class DraftResult(_Result):
    kind: Literal["draft"] = "draft"
    sheet: str
    blockers: int


class RestoreResult(_Result):
    """``missing``: names in the backup but not on the target."""

    kind: Literal["restore"] = "restore"
    sheet: str
    proved: bool
    missing: int


class UndoResult(_Result):
    kind: Literal["undo"] = "undo"
    sheet: str
    undone: int


class CopyResult(_Result):
    """``source`` and ``target``: stores, by name."""

    kind: Literal["copy"] = "copy"
    backup: str
    source: str
    target: str
    objects: int
    new_bytes: int
    sealed_anew: bool


class ScrubResult(_Result):
    kind: Literal["scrub"] = "scrub"
    objects: int
    bytes: int
    damaged: int
    healed: int
    damaged_backups: int = 0
    unknown_backups: int = 0
    brought_in: bool = False
    foreign: int = 0
    gaps: int = 0
    passed_over: int = 0


class VerifyResult(_Result):
    kind: Literal["verify"] = "verify"
    backups: int
    opened: int
    damaged_backups: int


class _Swept(_Result):
    records: int
    condemned: int
    deleted: int
    freed: int
    later: int
    repacked: int
    locked: int = 0
    locked_until: str | None = None
    marked: int = 0
    waiting: int = 0


class SweepResult(_Swept):
    """``waiting``: backups whose removal a person must confirm; ``marked``: backups removed
    later.
    """

    kind: Literal["sweep"] = "sweep"
    superseded: int = 0
    unfinished: int = 0


class PreviewResult(_Swept):
    """What a sweep would do. ``doubts``: sentences why it would do nothing."""

    kind: Literal["preview"] = "preview"
    doubts: str = ""


class RekeyResult(_Result):
    kind: Literal["rekey"] = "rekey"
    backups: int
    failed: int
    generation: int


class AdoptResult(_Result):
    kind: Literal["adopt"] = "adopt"
    backups: int
    copies: int = 0
    systems: int = 0
    unreadable: int = 0
    gone: int = 0


class DeployResult(_Result):
    """``address``: where the new machine answers; empty: it does not. ``blockers``: of a draft."""

    kind: Literal["deploy"] = "deploy"
    deployment: str
    act: Literal["draft", "make", "undo"]
    blockers: int = 0
    address: str = ""


class KeyResult(_Result):
    """For a run that failed because a machine presented another key: that key."""

    kind: Literal["key"] = "key"
    offered: str


RunResult = (
    TakeResult
    | LookResult
    | DraftResult
    | RestoreResult
    | UndoResult
    | CopyResult
    | ScrubResult
    | VerifyResult
    | SweepResult
    | PreviewResult
    | RekeyResult
    | AdoptResult
    | DeployResult
    | KeyResult
)
Told = Annotated[RunResult, Field(discriminator="kind")]

_adapter: TypeAdapter[RunResult] = TypeAdapter(Told)


def load(value: dict[str, object]) -> RunResult | None:
    """A stored result; None: the run has none."""
    return _adapter.validate_python(value) if value else None


def dump(result: RunResult | None) -> dict[str, object]:
    return result.model_dump(mode="json") if result is not None else {}


def of_before(run_kind: str, value: dict[str, object]) -> dict[str, object]:
    """A result stored before December 2026, when only the run recorded its kind."""
    if not value or "kind" in value:
        return value
    kind = run_kind
    if "offered" in value:
        kind = "key"
    elif run_kind == "restore" and "undone" in value:
        kind = "undo"
    elif run_kind == "sweep" and value.get("preview"):
        kind = "preview"
    elif run_kind == "copy":
        value = {**value, "source": value.get("from", ""), "target": value.get("to", "")}
    return {**value, "kind": kind}
