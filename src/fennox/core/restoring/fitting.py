"""Whether a target fits a backup: its version, by the rule of the kind, and the machine itself."""

from __future__ import annotations

from collections.abc import Iterator

from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Finding, Head
from fennox.core.kinds.literals import VersionRule
from fennox.core.kinds.model import Kind
from fennox.core.regexes import compiled
from fennox.core.restoring import proving
from fennox.core.words import first_few, size


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


def other_machine(kind: Kind, head: Head, target: Census) -> Iterator[Finding]:
    """What the backup's machine had itself and the target has not, and where the target is
    smaller.
    """
    counted = proving.counted_lists(kind, head)
    differing = []
    for name in kind.machine:
        ours, theirs = head.census.get(name, []), target.get(name, [])
        if name not in counted or sorted(ours) == sorted(theirs):
            continue
        there = first_few(theirs, 4) if theirs else "none"
        differing.append(f"{name}: {first_few(ours, 4) if ours else 'none'} (there {there})")
    if differing:
        yield Finding(
            severity="note",
            code="other-hardware",
            text=f"The target is not the machine of the backup in its {'; '.join(differing)}.",
            remedy="A restore changes nothing of these, and they are no part of the proof.",
        )
    for name in kind.sizes:
        ours_in_all, theirs_in_all = _sum(head.census.get(name)), _sum(target.get(name))
        if None not in (ours_in_all, theirs_in_all) and (theirs_in_all or 0) < (ours_in_all or 0):
            yield Finding(
                severity="warning",
                code="smaller-machine",
                text=(
                    f"The {name} of the target have {size(theirs_in_all or 0)} in all, those of the"
                    f" backup's machine had {size(ours_in_all or 0)}."
                ),
                remedy="See that what it is to hold, data among it, has room there.",
            )


def _sum(listed: list[str] | None) -> int | None:
    """Of entries ``name bytes``; None: there are none, or one has no number."""
    numbers = [entry.rpartition(" ")[2] for entry in listed or []]
    if not numbers or not all(number.isdigit() for number in numbers):
        return None
    return sum(int(number) for number in numbers)
