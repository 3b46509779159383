"""What makes a concern the one that it is: what it is about, never its words."""

from __future__ import annotations

from dataclasses import replace

from fennox.core.facts.concerns import ConcernFound
from fennox.core.format.manifest import Finding
from fennox.service.concerns.one_machine import subject_of

LACKS = ConcernFound(
    "lacks", "low", "system", "web-9", "web-9: it lacks x.", "Add x.", subject="points|/x"
)


def test_other_words_make_no_other_concern() -> None:
    reworded = replace(LACKS, text="web-9: x is missing.", remedy="Have it taken.", severity="high")
    assert reworded.key == LACKS.key


def test_another_subject_is_another_concern() -> None:
    assert replace(LACKS, subject="points|/y").key != LACKS.key


def test_the_same_of_another_system_is_another_concern() -> None:
    assert replace(LACKS, about="web-8").key != LACKS.key


def test_keys_of_before_stay_as_they_were_so_that_mutes_do() -> None:
    late = replace(LACKS, code="late", subject="b" * 32)
    before = replace(LACKS, code=f"late|{'b' * 32}", subject="")
    assert late.key == before.key


def test_a_finding_is_told_apart_by_what_it_is_about() -> None:
    finding = Finding(severity="warning", code="points-outside", text="To /x.", subject="/x")
    reworded = finding.model_copy(update={"text": "It leads to /x."})
    assert subject_of(finding) == subject_of(reworded)


def test_of_a_backup_of_before_the_words_tell_findings_apart() -> None:
    one = Finding(severity="warning", code="points-outside", text="To /x.")
    other = one.model_copy(update={"text": "To /y."})
    assert subject_of(one) != subject_of(other)


def test_a_finding_without_a_subject_is_stored_as_before() -> None:
    told = Finding(severity="note", code="said", text="It said so.").model_dump(mode="json")
    assert told == {"severity": "note", "code": "said", "text": "It said so.", "remedy": ""}
