"""Facts evaluated from the documents of one reading. Pure. Runs in a process that can be killed,
because the documents come from a machine.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from time import monotonic

from fennox.core.compare.documents import quiet_digest
from fennox.core.errors import FarSideFailed
from fennox.core.evidence import evaluation
from fennox.core.evidence.certificates import certificates
from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Certificate, Finding
from fennox.core.kinds.expressions import Complaint, Evidence
from fennox.core.kinds.model import Kind

PATIENCE = 60.0  # seconds for all expressions of a kind on one reading


@dataclass(frozen=True)
class Heard:
    """One reading of a machine. ``kind``: with placeholders filled; ``contents`` and ``paths`` as
    for evidence.
    """

    kind: Kind
    parts: list[str]
    contents: Mapping[str, bytes]
    paths: frozenset[str]
    complaints: list[Complaint]


@dataclass(frozen=True)
class DrawnFacts:
    """Evaluated facts. ``expected``: address, account and key after a restore."""

    census: Census = field(default_factory=dict)
    expected: dict[str, str] = field(default_factory=dict)
    certificates: list[Certificate] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    unknown: str = ""  # why it is unknown

    def counted(self) -> Census:
        """The census, for a comparison. Raises ``FarSideFailed`` if it could not be evaluated,
        which differs from an empty one.
        """
        if self.unknown:
            text = f"What the machine holds was read, but could not be evaluated: {self.unknown}."
            raise FarSideFailed(
                text, "Look for a document that is much longer or stranger than before."
            )
        return self.census


def told(heard: Heard, patience: float = PATIENCE) -> DrawnFacts:
    """Checks the time between values. Expressions not evaluated in time are reported as a
    finding.
    """
    ends = monotonic() + patience
    evidence = Evidence(
        contents=dict(heard.contents),
        paths=set(heard.paths),
        complaints=list(heard.complaints),
        patience=lambda: monotonic() < ends,
    )
    drawn = evaluation.census(heard.kind, evidence)
    expected = evaluation.expected(heard.kind, evidence)
    held = certificates(heard.kind, evidence)
    # last, because it includes documents that could not be evaluated
    return DrawnFacts(drawn, expected, held, evaluation.findings(heard.kind, evidence, heard.parts))


def not_told(why: str) -> DrawnFacts:
    """An unknown result: neither presence nor absence is established."""
    return DrawnFacts(
        unknown=why,
        findings=[
            Finding(
                severity="warning",
                code="not-looked-at",
                subject="documents",
                text=(
                    f"What was read could not be evaluated: {why}. It is neither counted nor"
                    " checked."
                ),
                remedy=(
                    "The documents are in the backup. Look for one that is much longer or stranger"
                    " than before."
                ),
            )
        ],
    )


def quiet_digests(kind: Kind, contents: Mapping[str, bytes]) -> dict[str, str]:
    """Digests by path that differ only if contents differ in more than noise."""
    return {path: quiet_digest(kind, path, content) for path, content in contents.items()}
