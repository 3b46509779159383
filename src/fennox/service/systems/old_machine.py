"""The state of a system's present machine while it is about to be replaced."""

from __future__ import annotations

from fennox.catalogue.models.systems import Login, System
from fennox.core.errors import FennoxError, KeyChanged, Unreachable, WrongLogin
from fennox.core.format.manifest import Finding, Severity
from fennox.core.restoring.sheet import Sheet
from fennox.service.machines import login_uses
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import way_to

_CODE = "old-one-"  # prefix of the codes of these findings
_SILENT = "old-one-silent"


async def look(context: Context, system: System, login: Login, target: str) -> list[Finding]:
    """Its present state. ``target``: the address a restore writes to; not contacted if it is the
    system's own.
    """
    if target == system.address:
        return []
    kind, _ = context.kinds.kind(system.kind)
    old, there = f"The old {system.name}", system.address
    try:
        link = await context.machines.connect(
            kind, login_uses.of_system(kind, system, login), way_to(system)
        )
    except Unreachable as error:
        return [_finding("note", _SILENT, f"{old} does not answer at {there}: {error.what}")]
    except WrongLogin:
        return [
            _finding(
                "warning", "old-one-refuses-us", f"{old} answers at {there}, and refuses the login."
            )
        ]
    except KeyChanged:
        text = f"{old} does not answer at {there}, but a machine with another key does."
        return [_finding("warning", "old-one-other-key", text, "Find out which machine that is.")]
    except FennoxError as error:
        text = f"Whether the old {system.name} answers at {there} is not known: {error.what}"
        return [_finding("warning", "old-one-unknown", text, "Look at it yourself.")]
    await link.close()
    return [_finding("warning", "old-one-answers", f"{old} still answers at {there}.")]


def _finding(
    severity: Severity, code: str, text: str, remedy: str = "Switch it off first."
) -> Finding:
    return Finding(
        severity=severity, code=code, text=text, remedy="" if severity == "note" else remedy
    )


def seen_anew(sheet: Sheet, now: list[Finding]) -> list[str]:
    """Record its present state. Returns a sentence if the machine is no longer silent."""
    before = [finding for finding in sheet.findings if finding.code.startswith(_CODE)]
    sheet.findings = [finding for finding in sheet.findings if finding not in before] + now
    was_silent = any(finding.code == _SILENT for finding in before)
    alive = [finding.text for finding in now if finding.code != _SILENT]
    return alive if was_silent else []
