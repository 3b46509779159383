"""Purposes of a restore, and the consequences for the estate (docs/disaster.md). Pure."""

from __future__ import annotations

from collections.abc import Iterator
from typing import assert_never

from fennox.core.format.manifest import Finding
from fennox.core.kinds.model import Kind
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring.plan_inputs import RestoreSource, Target, left_out_essentials
from fennox.core.restoring.sheet import After, Sheet


def estate_afterwards(sheet: Sheet) -> str:
    """What the estate does once the restore is proved, in a sentence or two."""
    name, there = sheet.system_name, sheet.after.place.address
    match sheet.purpose:
        case "repair" if sheet.new_identity:
            return (
                f"{name} stays at {there}. Its machine has another id or key: once a person accepts"
                " the proof, it is known by these."
            )
        case "repair":
            return f"Nothing of {name} changes."
        case "replace":
            return (
                f"Once a person accepts the proof, {name} is the machine at {there}, with all its"
                f" backups. Until then it is the one at {sheet.system_address}."
            )
        case "practise":
            return f"Nothing of {name} changes."
        case "seed":
            return (
                f"Once a person accepts the proof, the machine at {there} is enrolled as"
                f" {sheet.new_name}. Nothing of {name} changes."
            )
        case "return":
            return (
                f"The machine at {there} is as it was before the restore, and {name} goes on as it"
                " was."
            )
        case _:
            assert_never(sheet.purpose)


def moves_identity(purpose: RestorePurpose) -> bool:
    """Whether the target becomes the system or a new one, and so must be complete."""
    return purpose in ("replace", "seed")


def suspends(purpose: RestorePurpose) -> bool:
    """Whether the system's routines pause from the start to the acceptance."""
    return purpose in ("repair", "replace")


def saves(purpose: RestorePurpose, spare: str | None) -> bool:
    """Whether a safety copy is taken. It is a backup of an enrolled system: the repaired or
    replaced one, or the spare.
    """
    return purpose in ("repair", "replace") or (purpose == "practise" and spare is not None)


def findings_of(
    purpose: RestorePurpose,
    kind: Kind,
    source: RestoreSource,
    target: Target,
    parts: list[str],
    *,
    saves: bool,
) -> Iterator[Finding]:
    """Why this target does not suit this purpose, and what the purpose leaves out."""
    name, own = source.system_name, source.machine
    if purpose == "return":
        return
    if purpose != "repair" and own and own == target.machine.id:
        yield _blocker(
            "own-machine",
            f"The target is {name}'s own machine ({own}).",
            "To put its backup back onto it, draft with --repair. Else choose another target.",
        )
    left_out = sorted(left_out_essentials(kind, parts))
    if moves_identity(purpose) and left_out:
        yield _blocker(
            "not-whole",
            f"The part {left_out[0]} is not restored, so the target cannot become a system.",
            "Restore all parts, or draft with --practise.",
        )

    if not saves:
        yield Finding(
            severity="warning",
            code="not-saved",
            text="What the target holds now is not saved, as it is no enrolled system.",
            remedy="Use only a machine that holds nothing of worth, or enrol it as a spare.",
        )


def same_address(purpose: RestorePurpose, source: RestoreSource, after: After) -> Iterator[Finding]:
    """Two machines must never answer at one address."""
    if purpose in ("practise", "seed") and after.place.address == source.address:
        yield _blocker(
            "same-address",
            f"The restore gives the target the address of {source.system_name} itself,"
            f" {source.address}.",
            "Restore parts that do not set it: --part NAME.",
        )


def _blocker(code: str, text: str, remedy: str) -> Finding:
    return Finding(severity="blocker", code=code, text=text, remedy=remedy)
