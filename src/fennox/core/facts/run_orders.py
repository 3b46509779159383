"""The order of a run: fixed when it is queued, stored with it, read by the worker. Pure."""

from __future__ import annotations

from typing import Annotated, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from fennox.core.kinds.literals import Stance
from fennox.core.places.sheet_model import RestorePurpose

RunKind = Literal[
    "take",
    "look",
    "draft",
    "restore",
    "copy",
    "scrub",
    "verify",
    "sweep",
    "adopt",
    "rekey",
    "deploy",
]


class _Order(BaseModel):
    """``opens``: id of the store whose passphrase the worker waits for."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    opens: str | None = None


class TakeOrder(_Order):
    """``parts``: of the kind; None: its defaults. ``hold``: why the backup is held; None: not held.
    ``handed_in``: the document a person handed in, the only one of this backup. ``pushed``: ids
    of the files at the drop that this backup is made of. ``differs``: the take was triggered by a
    look.
    """

    kind: Literal["take"] = "take"
    name: str = ""
    note: str = ""
    parts: list[str] | None = None
    hold: str | None = None
    handed_in: str | None = None
    pushed: list[str] | None = None
    differs: bool = False


class LookOrder(_Order):
    kind: Literal["look"] = "look"


class Aim(BaseModel):
    """Where a machine answers, with which login (its id); ``key``: its accepted key."""

    model_config = ConfigDict(frozen=True)

    login: str
    address: str
    key: str


class DraftOrder(_Order):
    """``parts``: to be put back; None: the kind's defaults. ``entrance``: where the kind has a
    second way in. ``places``: a person's choices for values of the place. ``returns``: id of the
    sheet whose safety copy is put back; ``begin``: as soon as it is drafted.
    ``again``: id of the sheet that is drafted anew.
    """

    kind: Literal["draft"] = "draft"
    backup: str
    target: Aim
    parts: list[str] | None = None
    entrance: Aim | None = None
    places: dict[str, str] = {}
    only: dict[str, list[str]] = {}  # of a census list the names that are put back
    # drafts queued before December 2026 have none; practice harms nobody
    purpose: RestorePurpose = "practise"
    spare: str | None = None
    new_name: str | None = None
    # of a member of a replicated set: whose copy wins, and what wins by itself
    stance: Stance | None = None
    claim: str = ""
    beside: str = ""  # name of the login of the further way, if not the system's
    returns: str | None = None
    begin: bool = False
    again: str | None = None


class RestoreOrder(_Order):
    """Id and time of the safety copy, so that a resumed run finds the one it made."""

    kind: Literal["restore"] = "restore"
    safety_backup: str
    safety_time: str


class CopyOrder(_Order):
    kind: Literal["copy"] = "copy"
    backup: str


class ScrubOrder(_Order):
    """``share``: (index, number of shares) of the store to read; (0, 1) is all of it."""

    kind: Literal["scrub"] = "scrub"
    share: tuple[int, int] = (0, 1)


class VerifyOrder(_Order):
    """``backup``: None: the backups opened longest ago, at most ``most``. ``by_hand``: a person
    waits for it.
    """

    kind: Literal["verify"] = "verify"
    backup: str | None = None
    most: int | None = None
    by_hand: bool = False


class SweepOrder(_Order):
    """``confirmed``: ids of backups a person confirmed for removal. ``preview``: remove nothing."""

    kind: Literal["sweep"] = "sweep"
    preview: bool = False
    confirmed: list[str] = []


class AdoptOrder(_Order):
    """``standing``: also read notes about backups already in the catalogue."""

    kind: Literal["adopt"] = "adopt"
    standing: bool = False


class RekeyOrder(_Order):
    kind: Literal["rekey"] = "rekey"


class DeployOrder(_Order):
    """``deployment``: its id. ``draft``: see what a new machine would be made with; ``make``: make
    it, or go on making it; ``undo``: take it away.
    """

    kind: Literal["deploy"] = "deploy"
    deployment: str
    act: Literal["draft", "make", "undo"]


RunOrder = (
    TakeOrder
    | LookOrder
    | DraftOrder
    | RestoreOrder
    | CopyOrder
    | ScrubOrder
    | VerifyOrder
    | SweepOrder
    | AdoptOrder
    | RekeyOrder
    | DeployOrder
)
StoreOrder = CopyOrder | ScrubOrder | VerifyOrder | SweepOrder | AdoptOrder | RekeyOrder
"""What is done to a store, whatever the system."""

_Kind = TypeVar("_Kind", bound=RunOrder)
_adapter: TypeAdapter[RunOrder] = TypeAdapter(Annotated[RunOrder, Field(discriminator="kind")])


def load(value: dict[str, object]) -> RunOrder:
    """An order as it is kept."""
    return _adapter.validate_python(value)


def dump(order: RunOrder) -> dict[str, object]:
    """Default values are omitted, so that queries can test whether a field is present."""
    return {"kind": order.kind, **order.model_dump(mode="json", exclude_defaults=True)}


def of_kind(order: RunOrder, kind: type[_Kind]) -> _Kind:
    """The order as the expected type: each kind of run has a function of its own."""
    if not isinstance(order, kind):
        raise TypeError(f"An order to {order.kind} reached what expects a {kind.__name__}.")
    return order


def of_before(run_kind: str, value: dict[str, object]) -> dict[str, object]:
    """An order stored before December 2026, when only the run recorded its kind."""
    if "kind" in value:
        return value
    order = {key: inner for key, inner in value.items() if inner is not None}
    match run_kind:
        case "draft":
            order["target"] = {key: order.pop(key, "") for key in ("login", "address", "key")}
        case "restore":
            order = {"safety_backup": "", "safety_time": "", **order}
        case "copy":
            order = {"backup": "", **order}
    return {**order, "kind": run_kind}
