"""Kinds and their parts."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from fennox.core.names import Noun
from fennox.wire.base import Shown, Wanted


class PartShown(Shown):
    name: str
    title: str
    essential: bool
    default: bool
    needs: list[str] = Field(description="Parts that are taken along.")
    uses: list[Literal["rebuild", "load"]]
    way: Literal["read", "pushed when asked", "pushed by itself", "handed in"]
    overwrites: str
    documents: list[str]


class MachineValueShown(Shown):
    name: str
    title: str
    default: str


class KindShown(Shown):
    name: str
    version: int
    title: str
    about: str
    reach: Literal["ssh", "https", "hand", "push", "service"]
    port: int
    entrance: str = Field(description="Where the steps of a restore go, if not where it is read.")
    decides: bool = Field(
        description="Whether a restore asks whose copy wins: such systems are members of a set."
    )
    settings: dict[str, str]
    defaults: dict[str, str] = Field(description="Values of settings where a system sets none.")
    parts: list[PartShown]
    census: list[str]
    left_out: list[str]
    rules: list[str]
    steps: list[str]
    beside: Literal["ssh", "https", ""] = Field(
        description="By what else such a machine is reached; empty: by nothing else."
    )
    singles: dict[str, list[str]] = Field(
        description="Census lists of which single names can be put back, with the parts for that."
    )
    makes: list[MachineValueShown] = Field(
        description="With what a new machine is made on such a host; empty: it makes none."
    )


class KindDraftWanted(Wanted):
    system: Noun
    package: str = Field(max_length=200, description="As dpkg calls it.")


class KindDrafted(Shown):
    text: str = Field(description="A kind file; nothing of it is installed.")


class NewKind(Wanted):
    """A kind file. A newer version replaces the older one; backups keep the text they were taken
    with.
    """

    text: str = Field(max_length=1_000_000)
