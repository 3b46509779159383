"""What a run is to do: fixed when it is queued, kept with it, and read by the worker. Pure."""

from __future__ import annotations

from typing import Annotated, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from fennox.core.restoring.sheet import RestorePurpose

RunKind = Literal[
    "take", "look", "draft", "restore", "copy", "scrub", "verify", "sweep", "adopt", "rekey"
]


class _Order(BaseModel):
    """``opens``: id of the store for whose passphrase the run's worker waits."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    opens: str | None = None


class TakeOrder(_Order):
    """``parts``: of the kind; None: its defaults. ``hold``: why the backup is held; None: it is
    not.

    ``handed_in``: the only document of the backup, which a person handed in. ``differs``: a look
    asked for the take.
    """

    kind: Literal["take"] = "take"
    name: str = ""
    note: str = ""
    parts: list[str] | None = None
    hold: str | None = None
    handed_in: str | None = None
    differs: bool = False


class LookOrder(_Order):
    kind: Literal["look"] = "look"


class Aim(BaseModel):
    """Where a machine answers, and by which login (its id); ``key``: by which it proves itself."""

    model_config = ConfigDict(frozen=True)

    login: str
    address: str
    key: str


class DraftOrder(_Order):
    """``parts``: to be put back; None: the kind's defaults. ``entrance``: where the kind has a
    second way in.
    """

    kind: Literal["draft"] = "draft"
    backup: str
    target: Aim
    parts: list[str] | None = None
    entrance: Aim | None = None
    purpose: RestorePurpose = (
        "practise"  # drafts queued before December 2026 have none: this harms nobody
    )
    spare: str | None = None
    new_name: str | None = None


class RestoreOrder(_Order):
    """Id and time of the safety copy, so that a run that is taken up again finds the one it has
    made.
    """

    kind: Literal["restore"] = "restore"
    safety_backup: str
    safety_time: str


class CopyOrder(_Order):
    kind: Literal["copy"] = "copy"
    backup: str


class ScrubOrder(_Order):
    """``share``: which of how many parts of the store is read; a whole one is (0, 1)."""

    kind: Literal["scrub"] = "scrub"
    share: tuple[int, int] = (0, 1)


class VerifyOrder(_Order):
    """``backup``: None: those that were opened longest ago, at ``most`` so many. ``by_hand``: a
    person waits for it.
    """

    kind: Literal["verify"] = "verify"
    backup: str | None = None
    most: int | None = None
    by_hand: bool = False


class SweepOrder(_Order):
    """``confirmed``: ids of backups of which a person said that they may go. ``preview``: nothing
    is removed.
    """

    kind: Literal["sweep"] = "sweep"
    preview: bool = False
    confirmed: list[str] = []


class AdoptOrder(_Order):
    """``standing``: notes about backups that the catalogue knows are read as well."""

    kind: Literal["adopt"] = "adopt"
    standing: bool = False


class RekeyOrder(_Order):
    kind: Literal["rekey"] = "rekey"


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
)
StoreOrder = CopyOrder | ScrubOrder | VerifyOrder | SweepOrder | AdoptOrder | RekeyOrder
"""What is done to a store, whatever the system."""

_Kind = TypeVar("_Kind", bound=RunOrder)
_adapter: TypeAdapter[RunOrder] = TypeAdapter(Annotated[RunOrder, Field(discriminator="kind")])


def load(value: dict[str, object]) -> RunOrder:
    """An order as it is kept."""
    return _adapter.validate_python(value)


def dump(order: RunOrder) -> dict[str, object]:
    """What is as it is by default is left out, so that queries can ask whether it is there."""
    return {"kind": order.kind, **order.model_dump(mode="json", exclude_defaults=True)}


def of_kind(order: RunOrder, kind: type[_Kind]) -> _Kind:
    """The order as what it must be: each sort of run is carried out by a function of its own."""
    if not isinstance(order, kind):
        raise TypeError(f"An order to {order.kind} reached what expects a {kind.__name__}.")
    return order


def of_before(run_kind: str, value: dict[str, object]) -> dict[str, object]:
    """An order as it was kept before December 2026, when the run alone said of which kind it is."""
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
