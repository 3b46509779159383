"""Restores: drafting a run sheet, starting it, answering its gates."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, SecretStr

from fennox.core.names import Noun
from fennox.core.places.sheet_model import DraftPurpose, RestorePurpose
from fennox.core.restoring.sheet import Sheet, SheetAct, SheetStep
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted

PlaceWanted = Annotated[str, Field(min_length=1, max_length=1000, pattern=r"^[^\x00-\x1f\x7f]+$")]


PlacesWanted = Annotated[
    dict[Annotated[str, Field(max_length=300)], PlaceWanted],
    Field(
        max_length=200,
        description=(
            "Whose values of the place are written: by the value's name, or `name[key]` for one of"
            " several, `target`, `backup`, or a new value."
        ),
    ),
]


class EntranceWanted(Wanted):
    """Where steps connect on the target, for kinds with an entrance."""

    at: str | None = Field(
        default=None, description="host:port; the target's host and the kind's port if left out."
    )
    login: Noun | None = Field(
        default=None, description="The login there; the target's if left out."
    )
    key: str | None = Field(default=None, description="The accepted fingerprint there.")


class Redraft(Wanted):
    place: PlacesWanted = {}


class RestoreStart(Wanted):
    return_on_failure: bool = Field(
        default=False,
        description="Put the safety copy back by itself if the restore fails or is not proved.",
    )


class NewDraft(Wanted):
    backup: str
    purpose: DraftPurpose = Field(
        description=(
            "What the restore is for. `repair`: the system's own machine, or it reinstalled, at its"
            " address. `replace`: a new machine takes the system's place, once a person accepts the"
            " proof. `practise`: a spare, or a machine at another address; nothing of the estate"
            " changes. `seed`: a new machine becomes a new system."
        )
    )
    new_name: Noun | None = Field(
        default=None, description="Of a seed: what the new system is called."
    )
    onto: Noun | None = Field(
        default=None,
        description="To practise: the spare. Else the system; the backup's own if left out.",
    )
    at: str | None = Field(
        default=None, description="Where the target answers now, if not at the system's address."
    )
    login: Noun | None = Field(
        default=None, description="The login of the target, if not the system's."
    )
    key: str | None = Field(default=None, description="The accepted fingerprint of the target.")
    parts: list[Noun] | None = None
    place: PlacesWanted = {}
    only: Annotated[
        dict[
            Annotated[str, Field(max_length=300)],
            Annotated[list[Annotated[str, Field(max_length=1000)]], Field(max_length=1000)],
        ],
        Field(
            max_length=20,
            description=(
                "Single objects: of a census list, the names that are put back. The parts must be"
                " put back name by name."
            ),
        ),
    ] = {}
    peers: Literal["win", "yield"] | None = Field(
        default=None,
        description=(
            "Of a member of a replicated set, repaired or replaced: whether its restored copy wins"
            " over the others, or they over it."
        ),
    )
    claim: str = Field(
        default="", description="The subtree or object that wins by itself; empty: all."
    )
    beside: Noun | None = Field(
        default=None,
        description="The login of the further way to the target, if not the system's.",
    )
    entrance: EntranceWanted = EntranceWanted()
    wait: bool = Field(
        default=True, description="Line up behind an active run of the system; else it is refused."
    )
    passphrase: SecretStr | None = None


class SheetAnswer(Wanted):
    gate: int
    answer: str


class StepReleased(Wanted):
    step: int = Field(description="Its number on the sheet.")


class RestoreShown(Shown):
    id: str
    system: str
    backup: str
    purpose: RestorePurpose
    target: str = Field(description="The spare's name, or an address.")
    state: str
    created: Aware
    by: str
    run: str | None
    proved: bool | None
    awaits_acceptance: bool


class SheetShown(Shown):
    id: str
    created: Aware
    by: str
    run: str | None
    sheet: Sheet
    acts: list[SheetAct] = Field(description="What may be done with it now.")
    blockers: int = Field(description="Findings that prevent `begin` and `continue`.")
    estate_afterwards: str = Field(description="What the estate does once it is proved, in words.")
    expected_seconds: float | None = Field(
        description=(
            "How long it usually takes, without what people do, by earlier restores of the kind;"
            " null: not known."
        )
    )
    to_undo: list[SheetStep] = Field(description="What `undo` would do, in its order.")
    in_force: list[SheetStep] = Field(
        description="Steps that left the target in a state which nothing has ended yet."
    )
    staying: list[str] = Field(description="What has begun and cannot be undone, by title.")
