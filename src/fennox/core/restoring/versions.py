"""Whether a backup's version fits a target's, by the rule of the kind."""

from __future__ import annotations

from fennox.core.kinds.regexes import compiled
from fennox.core.kinds.rules import VersionRule


def version_numbers(form: str, version: str) -> list[int]:
    """The numbers of a version by the kind's pattern; letters count by position (``4.2b`` >
    ``4.2a``).
    """
    return [
        int(part) if part.isdigit() else ord(part[0])
        for part in compiled(form).drawn(version)
        if part
    ]


def version_fits(rule: VersionRule, form: str, backup: str, target: str) -> bool:
    if rule == "any":
        return True
    if rule == "same":
        return backup == target
    ours, theirs = (version_numbers(form, text) for text in (backup, target))
    if rule == "same-major":
        return ours[:1] == theirs[:1] and bool(ours)
    return theirs >= ours
