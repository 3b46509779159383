"""The proof: census of the backup, of the fresh target and after, compared by name. Pure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Head
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Expression, PartModel
from fennox.core.restoring import replicating
from fennox.core.restoring.proof import CheckProof, ListProof, Proof
from fennox.core.restoring.replicating import ReplicaPlan
from fennox.core.restoring.sheet import Sheet


def covered_lists(kind: Kind, parts: list[str]) -> tuple[list[str], list[str]]:
    """Census lists that the chosen parts fully determine, and those they do not."""
    left = [part for part in kind.part if part.name not in parts]
    covered: list[str] = []
    not_covered: list[str] = []
    for name, expressions in kind.census.items():
        elsewhere = any(_may_hold(part, expression) for part in left for expression in expressions)
        (not_covered if elsewhere else covered).append(name)
    return covered, not_covered


def counted_lists(kind: Kind, head: Head) -> frozenset[str]:
    """Census lists the backup counted; for others the machine's names are unknown. Either an older
    version of the kind did not know the list, or parts that hold some of its names were left out.
    """
    covered, _ = covered_lists(kind, [part.name for part in head.parts])
    return frozenset(head.census) & frozenset(covered)


def parts_holding(kind: Kind, lists: Sequence[str]) -> list[str]:
    """Parts from which these census lists are drawn."""
    wanted = [expression for name in lists for expression in kind.census.get(name, [])]
    return [
        part.name
        for part in kind.part
        if not part.comes_by_itself and any(_may_hold(part, expression) for expression in wanted)
    ]


def _may_hold(part: PartModel, expression: Expression) -> bool:
    looked_in = _prefix(expression.in_)
    for source in part.source:
        if source.document == expression.in_:
            return True
        if source.document is not None and "{" in source.document:  # a document for each name
            made = _prefix(source.document)
            if looked_in.startswith(made) or made.startswith(looked_in):
                return True
        for pattern in source.files or []:
            if looked_in.startswith(_prefix(pattern)) or _prefix(pattern).startswith(looked_in):
                return True
    return False


def _prefix(pattern: str) -> str:
    return pattern.split("*")[0].split("{")[0]


def compare_census(
    kind: Kind, parts: list[str], head: Head, fresh: Census, after: Census
) -> list[ListProof]:
    """The lists that the chosen parts determine, name by name. Default objects of a fresh install
    are not extra.

    Lists that the backup has not counted are left out.
    """
    return [
        item for item in _compared(kind, parts, head, fresh, after) if item.name not in kind.machine
    ]


def decided_lists(
    plan: ReplicaPlan | None, kind: Kind, parts: list[str], head: Head, fresh: Census, after: Census
) -> tuple[list[ListProof], list[str]]:
    """As :func:`compare_census`, of what the backup decides, and the names of what the peers of a
    replicated set decide.
    """
    rule = kind.replicas
    ours, before, now = (
        replicating.claimed(rule, plan, census) for census in (head.census, fresh, after)
    )
    of_claim = head.model_copy(update={"census": ours})
    return replicating.decided(rule, plan, compare_census(kind, parts, of_claim, before, now))


def of_the_machine(
    kind: Kind, parts: list[str], head: Head, fresh: Census, after: Census
) -> list[ListProof]:
    """The lists of what the machine itself is, likewise: a restore brings nothing of them."""
    compared = _compared(kind, parts, head, fresh, after)
    return [item for item in compared if item.name in kind.machine and (item.backup or item.after)]


def _compared(
    kind: Kind, parts: list[str], head: Head, fresh: Census, after: Census
) -> list[ListProof]:
    covered, _ = covered_lists(kind, parts)
    backup, counted = head.census, counted_lists(kind, head)
    return [
        ListProof(
            name=name,
            backup=len(backup.get(name, [])),
            fresh=len(fresh.get(name, [])),
            after=len(after.get(name, [])),
            missing=sorted(set(backup.get(name, [])) - set(after.get(name, []))),
            extra=sorted(
                set(after.get(name, []))
                - set(backup.get(name, []))
                - set(kind.defaults.get(name, []))
            ),
        )
        for name in covered
        if name in counted
    ]


def not_proved(kind: Kind, parts: list[str], head: Head, lists: list[ListProof]) -> list[str]:
    """What a proof of these ``lists`` does not cover: lists the chosen parts do not determine or
    the backup never counted, and documents of parts that are not restored by writing them, such as
    a command's output.
    """
    covered, left_out = covered_lists(kind, parts)
    counted, compared = counted_lists(kind, head), {item.name for item in lists}
    documents = [documents_of(part) for part in parts if documents_of(part) not in compared]
    return [*left_out, *(name for name in covered if name not in counted), *documents]


def chosen(
    only: Mapping[str, list[str]], lists: list[ListProof], left_out: list[str]
) -> tuple[list[ListProof], list[str]]:
    """Where a person chose single names, these alone are compared: of the rest nothing was put
    back, and what else the target has is no surprise.
    """
    if not only:
        return lists, left_out
    kept = [item.model_copy(update={"extra": []}) for item in lists if item.name in only]
    others = [item.name for item in lists if item.name not in only]
    return kept, [*left_out, *others]


def documents_of(part: str) -> str:
    return f"documents of {part}"


def compare_documents(part: str, backup: Mapping[str, str], after: Mapping[str, str]) -> ListProof:
    """Documents of a written part: one that is absent or differs in content, mode or owner is
    missing.
    """
    return ListProof(
        name=documents_of(part),
        backup=len(backup),
        fresh=None,
        after=sum(after.get(path) == digest for path, digest in backup.items()),
        missing=[path for path, digest in sorted(backup.items()) if after.get(path) != digest],
        extra=[],
    )


def kept_documents(sheet: Sheet, after: Mapping[str, Mapping[str, str]]) -> list[ListProof]:
    """Documents that stay the target's own: one that is no longer as it was is missing."""
    kept = [one for one in sheet.placed.kept if one.target is not None]
    missing = [one.path for one in kept if after.get(one.part, {}).get(one.path) != one.target]
    if not kept:
        return []
    return [
        ListProof(
            name="documents kept as the target's",
            backup=len(kept),
            fresh=len(kept),
            after=len(kept) - len(missing),
            missing=missing,
            extra=[],
        )
    ]


def checks_of(sheet: Sheet) -> list[CheckProof]:
    """The checks saved in the sheet. A check that never ran has not passed."""
    return [
        CheckProof(
            title=step.title,
            passed=step.passed is True,
            detail={True: "", False: step.detail, None: "it did not run"}[step.passed],
        )
        for step in sheet.steps
        if step.do in ("check", "agree")
    ]


def unread(kind: Kind, why: Mapping[str, str]) -> list[CheckProof]:
    """Parts that could not be read from the restored machine, with the reason for each. They count
    as missing.
    """
    return [
        CheckProof(title=f"Read {kind.part_named(name).title}", passed=False, detail=said)
        for name, said in why.items()
    ]


def prove(
    lists: list[ListProof],
    left_out: list[str],
    checks: list[CheckProof],
    at: datetime,
    machine: list[ListProof] | None = None,
) -> Proof:
    """Proved: something was compared, no name of the backup is missing, and every check passed.

    Names that only the target has are shown, and are no failure.
    """
    proved = (
        bool(lists)
        and not any(item.missing for item in lists)
        and all(check.passed for check in checks)
    )
    return Proof(
        proved=proved,
        lists=lists,
        left_out_lists=left_out,
        checks=checks,
        at=at,
        machine=machine or [],
    )
