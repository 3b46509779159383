"""What is drawn from the documents of one reading. Pure. It runs in a process that can be killed,
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

PATIENCE = 60.0  # seconds that all expressions of a kind may work on one reading


@dataclass(frozen=True)
class Heard:
    """What was read of a machine. ``kind``: with its placeholders filled; ``contents`` and
    ``paths`` as of evidence.
    """

    kind: Kind
    parts: list[str]
    contents: Mapping[str, bytes]
    paths: frozenset[str]
    complaints: list[Complaint]


@dataclass(frozen=True)
class DrawnFacts:
    """What was drawn from documents. ``expected``: address, account and key after a restore."""

    census: Census = field(default_factory=dict)
    expected: dict[str, str] = field(default_factory=dict)
    certificates: list[Certificate] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    unknown: str = ""  # why nothing of it is known

    def counted(self) -> Census:
        """The census, for a comparison. Raises ``FarSideFailed`` if none was drawn, since that is
        not an empty one.
        """
        if self.unknown:
            text = f"What the machine holds was read, but could not be evaluated: {self.unknown}."
            raise FarSideFailed(
                text, "Look for a document that is much longer or stranger than before."
            )
        return self.census


def told(heard: Heard, patience: float = PATIENCE) -> DrawnFacts:
    """Time is checked between two values. What was not evaluated in time is listed as a finding."""
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
    # after all else: what nothing could be drawn from is among them
    return DrawnFacts(drawn, expected, held, evaluation.findings(heard.kind, evidence, heard.parts))


def not_told(why: str) -> DrawnFacts:
    """Nothing of it is known: neither that something is there, nor that it is gone."""
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
    """By path, digests that differ if contents differ in more than noise."""
    return {path: quiet_digest(kind, path, content) for path, content in contents.items()}
