"""Restores: drafting a run sheet, starting it, answering its gates."""

from __future__ import annotations

from pydantic import Field, SecretStr

from fennox.core.names import Noun
from fennox.core.restoring.sheet import Sheet, SheetAct, SheetStep
from fennox.core.time import Aware
from fennox.wire.base import Shown, Wanted


class EntranceWanted(Wanted):
    """Where the steps connect to on the target, for kinds with an entrance for that."""

    at: str | None = Field(
        default=None, description="host:port; the target's host and the kind's port if left out."
    )
    login: Noun | None = Field(
        default=None, description="The login there; the target's if left out."
    )
    key: str | None = Field(default=None, description="The accepted fingerprint there.")


class NewDraft(Wanted):
    backup: str
    onto: Noun | None = Field(default=None, description="The system; the backup's own if left out.")
    at: str | None = Field(
        default=None, description="Where the target answers now, if not at the system's address."
    )
    login: Noun | None = Field(
        default=None, description="The login of the target, if not the system's."
    )
    key: str | None = Field(default=None, description="The accepted fingerprint of the target.")
    parts: list[Noun] | None = None
    entrance: EntranceWanted = EntranceWanted()
    wait: bool = Field(
        default=True, description="Line up behind an active run of the system; else it is refused."
    )
    passphrase: SecretStr | None = None


class SheetStart(Wanted):
    takeover: bool | None = Field(
        default=None,
        description=(
            "Whether the target becomes the system once it is proved, so that its machine at"
            " another address is no longer watched; false leaves the system as it is. To be said"
            " where a sheet is `at_another_machine`."
        ),
    )


class SheetAnswer(Wanted):
    gate: int
    answer: str


class RestoreShown(Shown):
    id: str
    system: str
    backup: str
    state: str
    created: Aware
    by: str
    run: str | None
    proved: bool | None


class SheetShown(Shown):
    id: str
    created: Aware
    by: str
    run: str | None
    sheet: Sheet
    acts: list[SheetAct] = Field(description="What may be done with it now.")
    blockers: int = Field(description="Findings that prevent `begin` and `continue`.")
    needs_takeover: bool = Field(description="`begin` must say whether the target takes over.")
    to_undo: list[SheetStep] = Field(description="What `undo` would do, in its order.")
    staying: list[str] = Field(description="What has begun and cannot be undone, by title.")
