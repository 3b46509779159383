"""From a backup, a target and choices to a run sheet. Pure: everything it judges was read
before.
"""

from __future__ import annotations

from collections.abc import Mapping

from fennox.core.format.manifest import Finding
from fennox.core.kinds.filling import filled_in
from fennox.core.kinds.model import Kind
from fennox.core.restoring.changed_facts import facts
from fennox.core.restoring.overwriting import compare_documents
from fennox.core.restoring.plan_findings import findings_of
from fennox.core.restoring.plan_inputs import (
    RestoreSource,
    Target,
    at_another_machine,
)
from fennox.core.restoring.plan_steps import steps_of, undo_steps, what_follows
from fennox.core.restoring.sheet import Place, Sheet


def _other_account(after: str, now: str) -> Finding:
    return Finding(
        severity="warning",
        code="other-account",
        text=f"Afterwards {after} signs in, but the system's login is for {now}.",
        remedy="Give the system the login of that day before you begin.",
    )


def plan(
    kind: Kind,
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
    overwrites = compare_documents(kind, source, target, parts)
    steps = steps_of(kind, source, target, parts, settings)
    undo = undo_steps(kind, source.head, target.census, steps, settings)
    after = what_follows(kind, source, target, parts)
    findings = findings_of(kind, source, target, parts, overwrites)
    if after.login == "system" and after.place.account != source.login_account:
        findings.append(_other_account(after.place.account, source.login_account))
    return Sheet(
        backup=source.backup,
        backup_taken=source.taken,
        system=source.system,
        system_name=source.system_name,
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
        findings=findings,
        steps=steps,
        undo=undo,
        overwrites=overwrites,
        restarts=[step.title for step in steps if step.restarts],
        cannot_be_undone=[step.title for step in steps if not step.undone],
        after=after,
        facts=facts(kind, source.backup, target, overwrites),
        fresh_census=target.census,
        at_another_machine=at_another_machine(kind, parts, target.place.address, source.address),
    )
