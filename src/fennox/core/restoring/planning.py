"""From a backup, a target and choices to a run sheet. Pure: everything it judges was read
before.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

from fennox.core.format.manifest import Finding
from fennox.core.kinds.filling import filled_in
from fennox.core.kinds.model import Kind
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring import purposes, replicating
from fennox.core.restoring.changed_facts import facts
from fennox.core.restoring.plan_findings import findings_of
from fennox.core.restoring.plan_inputs import (
    RestoreSource,
    Target,
    compare_documents,
    left_out_essentials,
)
from fennox.core.restoring.plan_steps import WayBack, steps_of, undo_steps, veiled
from fennox.core.restoring.sheet import After, Place, Sheet


def _other_account(after: str, now: str) -> Finding:
    return Finding(
        severity="warning",
        code="other-account",
        text=f"Afterwards {after} signs in, but the system's login is for {now}.",
        remedy="Give the system the login of that day before you begin.",
    )


@dataclass(frozen=True)
class Intent:
    """What a person wants of a restore. ``spare``: the enrolled spare that is the target, by name;
    ``new_name``: of the system that a seed becomes; ``way_back``: of a restore that is returned.
    """

    purpose: RestorePurpose
    spare: str | None = None
    new_name: str | None = None
    way_back: WayBack | None = None


def _without(target: Target, paths: set[str]) -> Target:
    """The target once these documents are taken away."""
    return replace(
        target,
        documents={
            part: {path: told for path, told in held.items() if path not in paths}
            for part, held in target.documents.items()
        },
        census={
            name: [value for value in listed if value not in paths]
            for name, listed in target.census.items()
        },
    )


def plan(
    kind: Kind,
    intent: Intent,
    source: RestoreSource,
    target: Target,
    parts: list[str],
    settings: Mapping[str, str],
    entrance: Place | None = None,
) -> Sheet:
    """Make the sheet. Blockers are findings in it, not errors: a person should see all of them at
    once.
    """
    kind = filled_in(kind, settings)
    read = target
    if intent.way_back is not None:
        target = _without(target, set(intent.way_back.added))
    overwrites = compare_documents(kind, source, target, parts)
    saves = purposes.saves(intent.purpose, intent.spare)
    decided = replicating.placeholders(source.replica)
    shown = {**settings, **decided, **veiled(kind), **source.offered_at}
    steps = steps_of(kind, source, read, parts, shown, saves=saves, back=intent.way_back)
    undo = undo_steps(kind, source.head, target.census, steps, shown)
    after = _what_follows(kind, source, target, parts)
    findings = [
        *purposes.findings_of(intent.purpose, kind, source, target, parts, saves=saves),
        *purposes.same_address(intent.purpose, source, after),
        *findings_of(kind, source, target, parts, overwrites),
        *replicating.findings(kind, source.replica),
    ]
    if after.login == "system" and after.place.account != source.login_account:
        findings.append(_other_account(after.place.account, source.login_account))
    return Sheet(
        backup=source.backup,
        backup_taken=source.taken,
        purpose=intent.purpose,
        system=source.system,
        system_name=source.system_name,
        system_address=source.address,
        spare=intent.spare,
        new_name=intent.new_name,
        returns=intent.way_back.sheet if intent.way_back is not None else None,
        kind=kind.name,
        kind_version=kind.version,
        parts=parts,
        target=target.place,
        entrance=entrance,
        target_machine=target.machine.id,
        target_product=target.machine.product,
        target_version=target.machine.version,
        settings=dict(settings),
        seen_settings=dict(settings),
        placed=source.placed,
        replica=source.replica,
        findings=findings,
        steps=steps,
        undo=undo,
        overwrites=overwrites,
        restarts=[step.title for step in steps if step.restarts],
        cannot_be_undone=[step.title for step in steps if not step.undone],
        after=after,
        facts=facts(kind, source.backup, read, overwrites),
        fresh_census=read.census,
        new_identity=intent.purpose != "return"
        and bool(source.machine)
        and (target.machine.id, after.place.key) != (source.machine, source.key),
    )


def _what_follows(kind: Kind, source: RestoreSource, target: Target, parts: list[str]) -> After:
    """Where the machine will answer: from the backup, if the kind can read it there."""
    rejoin = next((step for _, step in kind.steps() if step.do == "rejoin"), None)
    expected = source.head.expected
    partial = left_out_essentials(kind, parts)
    login: Literal["target", "system"] = "target"
    address, account, key = target.place.address, target.place.account, target.place.key
    because = dict.fromkeys(("address", "account", "key"), "the restore does not change it")
    if rejoin is not None and not partial:
        if rejoin.address == "backup" and "address" in expected:
            address, because["address"] = expected["address"], "the restored configuration sets it"
        if rejoin.account == "backup":
            account, login = expected.get("account", source.login_account), "system"
            because["account"] = "the backup's accounts replace those of the target"
        if rejoin.key == "backup" and "key" in expected:
            key, because["key"] = expected["key"], "the backup's own key is put back"
    elif partial:
        because = dict.fromkeys(because, f"the part {sorted(partial)[0]} is not restored")
    return After(
        place=Place(address=address, account=account, key=key),
        login=login,
        address_because=because["address"],
        account_because=because["account"],
        key_because=because["key"],
    )
