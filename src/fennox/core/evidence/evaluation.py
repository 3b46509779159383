"""What captured documents tell: identity, census, expected address, findings. Pure."""

from __future__ import annotations

from collections.abc import Iterable

from fennox.core.errors import BadInput, FarSideFailed
from fennox.core.format.manifest import Finding, Machine
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import Evidence, fitting
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Expression
from fennox.core.words import first_few

_LONGEST = 1 << 20  # bytes of one answer to who a machine is
_SHOWN = 5  # values of a doubt that a finding names
Census = dict[str, list[str]]


class Interest:
    """Which documents' contents the expressions of a kind look at."""

    def __init__(self, kind: Kind) -> None:
        found = _expressions(kind)
        self._certified = fitting(kind.certificates)
        self._exact: dict[str, list[Expression]] = {}
        for expression in found:
            self._exact.setdefault(expression.in_, []).append(expression)
        patterned = {text for text in self._exact if any(sign in text for sign in "*?[")}
        self._patterned = [(fitting([text]), self._exact[text]) for text in sorted(patterned)]
        self._any = fitting([*self._exact, *kind.certificates])

    def at(self, path: str) -> bool:
        return self._any(path)

    def is_met(self, path: str, content: bytes | bytearray) -> bool:
        """Whether some expression will really look at this document."""
        looking = self._exact.get(path, [])
        return (
            any(expressions.holds(expression, content) for expression in looking)
            or self._certified(path)
            or any(
                fits(path) and any(expressions.holds(e, content) for e in found)
                for fits, found in self._patterned
            )
        )


def _expressions(kind: Kind) -> list[Expression]:
    """Those that look at contents, not only at names."""
    found = [expression for listed in kind.census.values() for expression in listed]
    found += [item.needs for item in kind.completeness]
    found += [doubt.finds for doubt in kind.doubts]
    found += [reference.paths for reference in kind.references]
    expected = (kind.expected.address, kind.expected.account, kind.expected.key)
    found += [expression for expression in expected if expression is not None]
    return [expression for expression in found if expression.names is None]


def machine(kind: Kind, answers: dict[str, bytes]) -> Machine:
    """Who the machine says it is; an answer without id, product or version is an error that names
    what is missing.
    """
    for name, answer in answers.items():
        if len(answer) > _LONGEST:
            text = (
                f"The machine answers {name}, which is to tell who it is, with more than"
                f" {_LONGEST >> 20} MB."
            )
            raise FarSideFailed(text, "Check that it is of this kind.")
    evidence = Evidence(contents=answers, paths=set(answers))
    identity = kind.identity
    found = Machine(
        id=expressions.first(identity.id, evidence).strip(),
        product=expressions.first(identity.product, evidence).strip(),
        version=expressions.first(identity.version, evidence).strip(),
        build=expressions.first(identity.build, evidence).strip(),
        platform=expressions.first(identity.platform, evidence).strip(),
        name=expressions.first(identity.name, evidence).strip(),
    )
    missing = [field for field in ("id", "product", "version") if not getattr(found, field)]
    if missing:
        raise FarSideFailed(
            f"The machine does not tell its {' and '.join(missing)} as a {kind.title} does.",
            "Check that it is of this kind, and that the login may read it.",
        )
    return found


def census(kind: Kind, evidence: Evidence) -> Census:
    """Named lists of names, sorted and without doubles."""
    return {
        name: sorted(
            {
                value
                for expression in listed
                for value in expressions.values(expression, evidence)
                if value
            }
        )
        for name, listed in kind.census.items()
    }


def expected(kind: Kind, evidence: Evidence) -> dict[str, str]:
    found = {
        "address": expressions.first(kind.expected.address, evidence),
        "account": expressions.first(kind.expected.account, evidence),
        "key": expressions.first(kind.expected.key, evidence),
    }
    return {name: value for name, value in found.items() if value}


def findings(kind: Kind, evidence: Evidence, parts: Iterable[str]) -> list[Finding]:
    """What the backup lacks, said on the day it is taken."""
    taken = set(parts)
    found = []
    for part in kind.part:
        if part.essential and part.name not in taken and not part.handed_in:
            found.append(
                Finding(
                    severity="warning",
                    code="part-left-out",
                    subject=part.name,
                    text=f"The essential part {part.name} ({part.title}) was not taken.",
                    remedy="Take it before you rely on this backup for a rebuild.",
                )
            )
    for item in kind.completeness:
        if item.part in taken and not any(expressions.values(item.needs, evidence)):
            found.append(
                Finding(
                    severity="warning",
                    code=item.code,
                    subject=item.part,
                    text=item.lost,
                    remedy=item.remedy,
                )
            )
    for doubt in kind.doubts:
        values = (
            list(dict.fromkeys(expressions.values(doubt.finds, evidence)))
            if doubt.part in taken
            else []
        )
        if values:
            shown = [value[:200] for value in values]
            text = f"{doubt.means}: {first_few(shown, _SHOWN, separator='; ')}."
            found.append(
                Finding(
                    severity="warning",
                    code=doubt.code,
                    subject=doubt.part,
                    text=text,
                    remedy=doubt.remedy,
                )
            )
    for reference in kind.references:
        for path in sorted(set(expressions.values(reference.paths, evidence))):
            if path and path not in evidence.paths:
                found.append(
                    Finding(
                        severity="warning",
                        code="points-outside",
                        subject=path,
                        text=f"{reference.title} points to {path}, which is in no backup.",
                        remedy="Add the path to the system, or protect it in another way.",
                    )
                )
    for complaint in sorted(set(evidence.complaints)):
        found.append(
            Finding(
                severity="warning",
                code="unreadable-document",
                subject=complaint.path,
                text=f"{complaint}.",
                remedy="Look at it.",
            )
        )
    return found


def parts_to_take(kind: Kind, chosen: list[str] | None) -> list[str]:
    """The chosen parts (or the defaults) and those they need, in the order of the kind."""
    names = {part.name for part in kind.part}
    unknown = sorted(set(chosen or []) - names)
    if unknown:
        raise BadInput(
            f"The kind {kind.name} has no part {', '.join(unknown)}.",
            f"It has: {', '.join(sorted(names))}.",
        )
    taken = (
        set(chosen)
        if chosen
        else {part.name for part in kind.part if part.default and not part.handed_in}
    )
    while True:
        drawn_in = {need for part in kind.part if part.name in taken for need in part.needs} - taken
        if not drawn_in:
            return [part.name for part in kind.part if part.name in taken]
        taken |= drawn_in
