"""What a backup is good for, in sentences for the day of the disaster. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fennox.core.format.manifest import Finding
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import PartModel
from fennox.core.words import counted


def worth(
    kind: Kind, parts: Iterable[str], findings: list[Finding], left_out: list[str]
) -> list[str]:
    """Whether it rebuilds the system, what it lacks, what it can load, how consistent it is, and
    what it leaves out.
    """
    return list(_sentences(kind, set(parts), findings, left_out))


def _sentences(
    kind: Kind, held: set[str], findings: list[Finding], left_out: list[str]
) -> Iterator[str]:
    parts = [kind.part_named(name) for name in sorted(held)]
    if parts and kind.is_reached and all(part.comes_by_itself for part in parts):
        titles = ", ".join(part.title for part in parts)
        came = " or ".join(sorted({"handed in" if one.handed_in else "pushed" for one in parts}))
        yield f"It holds only what was {came}: {titles}. A rebuild also needs another backup."
        return
    yield from _for_a_rebuild(kind, held, findings)
    yield from _for_a_running_system(kind, held)
    yield from _consistency(kind, held, findings)
    if left_out:
        yield f"Not in any backup, and to be protected in another way: {'; '.join(left_out)}."


def _for_a_rebuild(kind: Kind, held: set[str], findings: list[Finding]) -> Iterator[str]:
    essential = [part for part in kind.part if part.essential and part.name not in held]
    missing = [part.title for part in essential if not part.comes_by_itself]
    by_hand = [part.title for part in essential if part.handed_in]
    pushed = [part.title for part in essential if part.pushed is not None]
    codes = {item.code for item in kind.completeness}
    lacks = [finding.text.rstrip(".") for finding in findings if finding.code in codes]
    if not missing and not lacks:
        yield "It can rebuild the system on a fresh machine: it holds every piece that takes."
    else:
        without = [f"it does not hold {', '.join(missing)}"] if missing else []
        yield f"A rebuild from it would be incomplete: {'; '.join([*without, *lacks])}."
    if by_hand:
        yield (
            f"People hand in {', '.join(by_hand)}; that is in a backup of its own and is loaded by"
            " hand."
        )
    if pushed:
        yield f"The system pushes {', '.join(pushed)} by itself; that is in backups of its own."
    outside = sum(finding.code == "points-outside" for finding in findings)
    if outside:
        yield (
            f"Its configuration points to {counted(outside, 'path')} outside of it, which must"
            " come from elsewhere."
        )


def _for_a_running_system(kind: Kind, held: set[str]) -> Iterator[str]:
    mine = [part for part in kind.part if part.name in held]
    load = [part.title for part in mine if "load" in part.uses and not _is_left(kind, part)]
    if load and kind.restore is not None:
        yield f"These parts can be loaded into a running system: {', '.join(load)}."
    to_read = [part.title for part in mine if _is_left(kind, part)]
    if to_read:
        yield f"For reading only, as no step of a restore puts it back: {', '.join(to_read)}."


def _consistency(kind: Kind, held: set[str], findings: list[Finding]) -> Iterator[str]:
    mine = [part for part in kind.part if part.name in held]
    instant = [part.title for part in mine if part.one_instant]
    other = [part.title for part in mine if not part.one_instant]
    if instant:
        yield f"Each document as of one instant, exported by the program: {', '.join(instant)}."
    if other:
        yield (
            "Read document by document while the system was running, so not as of one instant:"
            f" {', '.join(other)}."
        )
    for finding in findings:
        if finding.code == "moved-while-read":
            yield f"{finding.text} Such documents may be torn; check them before a restore."


def _is_left(kind: Kind, part: PartModel) -> bool:
    return (
        kind.restore is not None and part.name not in kind.put_back() and not part.comes_by_itself
    )
