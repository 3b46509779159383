"""What a backup is good for, in sentences for the day it is needed. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fennox.core.format.manifest import Finding
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import PartModel


def worth(
    kind: Kind, parts: Iterable[str], findings: list[Finding], left_out: list[str]
) -> list[str]:
    """Whether it rebuilds the system and what that lacks, what it can load, how consistent it is,
    what stays behind.
    """
    return list(_sentences(kind, set(parts), findings, left_out))


def _sentences(
    kind: Kind, held: set[str], findings: list[Finding], left_out: list[str]
) -> Iterator[str]:
    essential = [part for part in kind.part if part.essential and part.name not in held]
    missing = [part.title for part in essential if not part.handed_in]
    by_hand = [part.title for part in essential if part.handed_in]
    if kind.reach != "hand" and all(kind.part_named(name).handed_in for name in held):
        titles = ", ".join(kind.part_named(name).title for name in sorted(held))
        yield (
            f"It holds only what was handed in: {titles}. A rebuild needs another backup beside it."
        )
        return
    codes = {item.code for item in kind.completeness}
    lacks = [finding.text.rstrip(".") for finding in findings if finding.code in codes]
    if not missing and not lacks:
        yield "It can rebuild the system on a fresh machine: every piece that it takes is held."
    else:
        without = [f"it does not hold {', '.join(missing)}"] if missing else []
        yield f"A rebuild from it would not be whole: {'; '.join([*without, *lacks])}."
    if by_hand:
        yield (
            f"People hand in {', '.join(by_hand)}; that lies in a backup of its own and is loaded"
            " by hand."
        )
    outside = sum(finding.code == "points-outside" for finding in findings)
    if outside:
        yield (
            f"Its configuration points to {_many(outside, 'path')} outside of it, which must come"
            " from elsewhere."
        )
    load = [
        part.title
        for part in kind.part
        if part.name in held and "load" in part.uses and not _is_left(kind, part)
    ]
    if load and kind.restore is not None:
        yield f"Into a running system it can be loaded by parts: {', '.join(load)}."
    to_read = [part.title for part in kind.part if part.name in held and _is_left(kind, part)]
    if to_read:
        yield f"No step of a restore puts back what is there to be read: {', '.join(to_read)}."
    instant = [part.title for part in kind.part if part.name in held and part.one_instant]
    other = [part.title for part in kind.part if part.name in held and not part.one_instant]
    if instant:
        yield (
            "Each document as it stood at one instant, as the program gives it:"
            f" {', '.join(instant)}."
        )
    if other:
        yield (
            "Read document by document while the system worked, so not of one instant:"
            f" {', '.join(other)}."
        )
    for finding in findings:
        if finding.code == "moved-while-read":
            yield (
                f"{finding.text} Such documents may be torn; look at them before they are put back."
            )
    if left_out:
        yield (
            f"What stays where it is, and must be protected in another way: {'; '.join(left_out)}."
        )


def _is_left(kind: Kind, part: PartModel) -> bool:
    return kind.restore is not None and part.name not in kind.put_back() and not part.handed_in


def _many(count: int, noun: str) -> str:
    return f"one {noun}" if count == 1 else f"{count} {noun}s"
