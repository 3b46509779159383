"""Facts evaluated from captured documents: identity, census, expected address, findings. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fennox.core.errors import BadInput, FarSideFailed
from fennox.core.format.manifest import Finding, Machine
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import Evidence, fitting
from fennox.core.kinds.model import Kind
from fennox.core.kinds.sources import Expression
from fennox.core.words import first_few

_LONGEST = 1 << 20  # bytes of one answer to an identity query
_SHOWN = 5  # values that a finding lists
Census = dict[str, list[str]]


class Interest:
    """Which documents' contents a kind's expressions read."""

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
        """Whether some expression will read this document."""
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
    """The expressions that read contents, not only names."""
    found = [expression for listed in kind.census.values() for expression in listed]
    found += [item.needs for item in kind.completeness]
    found += [doubt.finds for doubt in kind.doubts]
    found += [reference.paths for reference in kind.references]
    found += [kind.trusts] if kind.trusts is not None else []
    sources = [source for part in kind.part for source in part.source]
    found += [source.named_by for source in sources if source.named_by is not None]
    expected = (kind.expected.address, kind.expected.account, kind.expected.key)
    found += [expression for expression in expected if expression is not None]
    return [expression for expression in found if expression.names is None]


def machine(kind: Kind, answers: dict[str, bytes]) -> Machine:
    """The machine's own identity. Raises an error naming what is missing if id, product or version
    is absent.
    """
    for name, answer in answers.items():
        if len(answer) > _LONGEST:
            text = (
                f"The machine answers {name}, which should identify it, with more than"
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
            f"The machine does not report its {' and '.join(missing)} as a {kind.title} does.",
            "Check that it is of this kind, and that the login may read it.",
        )
    return found


def census(kind: Kind, evidence: Evidence) -> Census:
    """Named lists of names, sorted, without duplicates."""
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
    """What the backup lacks, reported when it is taken."""
    taken = set(parts)
    return [
        *_left_out(kind, taken),
        *_incomplete(kind, evidence, taken),
        *_in_doubt(kind, evidence, taken),
        *_pointing_outside(kind, evidence),
        *(
            _warning("unreadable-document", complaint.path, f"{complaint}.", "Check it.")
            for complaint in sorted(set(evidence.complaints))
        ),
    ]


def _warning(code: str, subject: str, text: str, remedy: str) -> Finding:
    return Finding(severity="warning", code=code, subject=subject, text=text, remedy=remedy)


def _left_out(kind: Kind, taken: set[str]) -> Iterator[Finding]:
    for part in kind.part:
        if part.essential and part.name not in taken and not part.comes_by_itself:
            yield _warning(
                "part-left-out",
                part.name,
                f"The essential part {part.name} ({part.title}) was not taken.",
                "Take it before you rely on this backup for a rebuild.",
            )


def _incomplete(kind: Kind, evidence: Evidence, taken: set[str]) -> Iterator[Finding]:
    for item in kind.completeness:
        if item.part in taken and not any(expressions.values(item.needs, evidence)):
            yield _warning(item.code, item.part, item.lost, item.remedy)


def _in_doubt(kind: Kind, evidence: Evidence, taken: set[str]) -> Iterator[Finding]:
    for doubt in kind.doubts:
        if doubt.part not in taken:
            continue
        values = list(dict.fromkeys(expressions.values(doubt.finds, evidence)))
        if values:
            shown = first_few([value[:200] for value in values], _SHOWN, separator="; ")
            yield _warning(
                doubt.code, doubt.part, f"{doubt.means.rstrip('.')}: {shown}.", doubt.remedy
            )


def _pointing_outside(kind: Kind, evidence: Evidence) -> Iterator[Finding]:
    for reference in kind.references:
        for path in sorted(set(expressions.values(reference.paths, evidence))):
            if path and path not in evidence.paths:
                yield _warning(
                    "points-outside",
                    path,
                    f"{reference.title} points to {path}, which is in no backup.",
                    "Add the path to the system, or protect it in another way.",
                )


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
        else {
            part.name
            for part in kind.part
            if part.default and (not part.comes_by_itself or kind.reach == "push")
        }
    )
    while True:
        drawn_in = {need for part in kind.part if part.name in taken for need in part.needs} - taken
        if not drawn_in:
            return [part.name for part in kind.part if part.name in taken]
        taken |= drawn_in
