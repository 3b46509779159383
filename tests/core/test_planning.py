"""Run sheets: what speaks against a restore is found before it begins."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.format.manifest import Finding, Head, KindFile, Machine, Part, Reached
from fennox.core.format.trees import EMPTY
from fennox.core.kinds.model import Kind
from fennox.core.restoring import changed_facts, fitting, planning, proving, purposes
from fennox.core.restoring.plan_inputs import RestoreSource, Target
from fennox.core.restoring.proof import CheckProof
from fennox.core.restoring.sheet import Place, Sheet, SheetAct, SheetState
from tests.conftest import NOON
from tests.engine.keeper import shipped_kind

LINUX, _ = shipped_kind("linux-server")
SKERRY, _ = shipped_kind("storage-server")
ALL = [part.name for part in LINUX.part]
REPAIR = planning.Intent("repair")


def machine(**changes: str) -> Machine:
    return Machine.model_validate(
        {"id": "old", "product": "debian", "version": "12", "platform": "x86_64", **changes}
    )


def source(kind: Kind = LINUX, **changes: object) -> RestoreSource:
    head = Head(
        kind=KindFile(name=kind.name, version=1, text=""),
        settings={},
        machine=machine(),
        reached=Reached(address="10.0.0.1:22", account="root", key="SHA256:old"),
        parts=[
            Part(name=part.name, title="", documents=0, bytes=0, root=EMPTY) for part in kind.part
        ],
        census={"packages": ["cron", "nginx"], "enabled units": ["a.service"]},
        expected={"key": "SHA256:old"},
        findings=[],
        left_out=[],
        routine=None,
        fennox="",
    ).model_copy(update=changes)
    return RestoreSource(
        "b", "s", "web-9", head, {"settings": {"/etc/a": "1", "/etc/b": "2"}}, "root"
    )


def target(**changes: str) -> Target:
    place = Place(address="10.0.0.2:22", account="root", key="SHA256:new")
    documents = {"settings": {"/etc/a": "other", "/etc/c": "3"}}
    return Target(
        machine(id="new", **changes),
        place,
        documents,
        {"packages": ["cron"], "enabled units": ["z.service"]},
    )


def codes(
    kind: Kind, one: RestoreSource, other: Target, severity: str, parts: list[str] | None = None
) -> list[str]:
    sheet = planning.plan(kind, REPAIR, one, other, parts or ALL, {})
    return [finding.code for finding in sheet.findings if finding.severity == severity]


@pytest.mark.parametrize(
    ("changes", "expected"),
    [
        ({}, []),
        ({"product": "otheros"}, ["other-product"]),
        ({"version": "11"}, ["other-version"]),
        ({"version": "12.5"}, []),
        ({"platform": "aarch64"}, []),
    ],
)
def test_a_target_of_another_product_or_version_is_a_blocker(
    changes: dict[str, str], expected: list[str]
) -> None:
    assert codes(LINUX, source(), target(**changes), "blocker") == expected


def test_a_backup_of_another_kind_and_a_part_that_is_not_held_are_blockers() -> None:
    assert codes(LINUX, source(SKERRY), target(), "blocker") == [
        "other-kind",
        *["part-not-held"] * len(ALL),
    ]
    assert codes(LINUX, source(parts=[]), target(), "blocker", ["settings"]) == ["part-not-held"]


def test_what_the_backup_lacks_is_said_again_before_the_restore() -> None:
    lack = Finding(severity="warning", code="lacks-root-keys", text="x")
    assert codes(LINUX, source(findings=[lack]), target(), "warning") == ["lacks-root-keys"]


def test_what_is_overwritten_added_and_stays_is_told_by_name() -> None:
    over = planning.plan(LINUX, REPAIR, source(), target(), ALL, {}).overwrites
    assert (over.changed, over.added, over.staying_count, over.same_count) == (
        ["/etc/a"],
        ["/etc/b"],
        1,
        0,
    )


def test_steps_are_only_those_that_have_something_to_do_and_show_their_commands() -> None:
    sheet = planning.plan(
        LINUX, REPAIR, source(), target(), ALL, {"ssh-restart": "kill -HUP 1; echo 'x y'"}
    )
    shown = [command for step in sheet.steps for command in step.commands]
    assert "systemctl --root=/ enable a.service" in shown
    assert "systemctl --root=/ disable z.service" in shown
    assert any("nginx" in command and "cron" not in command for command in shown)
    assert "sh -c 'kill -HUP 1; echo '\"'\"'x y'\"'\"''" in shown
    only = planning.plan(LINUX, REPAIR, source(), target(), ["settings"], {})
    assert not any(step.do == "gate" for step in only.steps)


def test_the_face_afterwards_is_the_backups_only_if_everything_is_restored() -> None:
    whole = planning.plan(LINUX, REPAIR, source(), target(), ALL, {}).after
    assert whole.place == Place(address="10.0.0.2:22", account="root", key="SHA256:old")
    part = planning.plan(LINUX, REPAIR, source(), target(), ["settings"], {}).after
    assert part.place.key == "SHA256:new"


def test_only_facts_that_changed_are_told() -> None:
    then = planning.plan(LINUX, REPAIR, source(), target(), ALL, {})
    now = planning.plan(LINUX, REPAIR, source(), target(version="12.1"), ALL, {})
    assert changed_facts.changed_facts(then, then) == []
    assert changed_facts.changed_facts(then, now) == [
        "the target's version was debian 12 and is now debian 12.1"
    ]
    other = replace(target(), documents={"settings": {"/etc/a": "1", "/etc/b": "x"}})
    [said] = changed_facts.changed_facts(
        then, planning.plan(LINUX, REPAIR, source(), other, ALL, {})
    )
    assert said.endswith(
        "(overwritten as well: /etc/b; overwritten no more: /etc/a; added no more: /etc/b)"
    )


def test_a_list_that_the_backup_never_counted_is_unknown_and_not_empty() -> None:
    never = source(census={"packages": ["cron", "nginx"]})
    sheet = planning.plan(LINUX, REPAIR, never, target(), ALL, {})
    assert not any(
        "disable z.service" in command for step in sheet.steps for command in step.commands
    )
    assert [finding.code for finding in sheet.findings if finding.severity == "warning"] == [
        "never-counted"
    ]
    assert not any(
        "enabled units: only the target has" in finding.text for finding in sheet.findings
    )
    lists = proving.compare_census(LINUX, ALL, never.head, {}, {"packages": ["cron", "nginx"]})
    assert [item.name for item in lists] == ["packages"]
    named = proving.not_proved(
        LINUX, ALL, never.head, [proving.compare_documents("settings", {}, {})]
    )
    assert {"enabled units", "documents of accounts"} <= set(named)
    assert "documents of settings" not in named


def test_a_backup_of_a_few_parts_has_not_counted_what_lies_in_the_others() -> None:
    some = source(parts=[Part(name="settings", title="", documents=0, bytes=0, root=EMPTY)])
    assert "accounts" not in proving.counted_lists(
        LINUX, some.head.model_copy(update={"census": {"accounts": []}})
    )


@pytest.mark.parametrize(
    ("backup", "other", "fits"),
    [
        ("4.2b", "4.2b", True),
        ("4.2b", "4.9", True),
        ("4.2b", "5.0a", False),
        ("2024-1", "2024-9", True),
        ("", "", False),
    ],
)
def test_odd_version_forms_are_compared_by_their_first_number(
    backup: str, other: str, fits: bool
) -> None:
    form = SKERRY.requires.version_form
    assert fitting.version_fits("same-major", form, backup, other) is fits


@given(
    st.lists(st.integers(0, 99), min_size=1, max_size=4),
    st.lists(st.integers(0, 99), min_size=1, max_size=4),
)
def test_not_older_orders_versions_as_numbers(ours: list[int], theirs: list[int]) -> None:
    requires = LINUX.requires.model_copy(update={"version": "not-older"})
    kind = LINUX.model_copy(update={"requires": requires})
    texts = [".".join(str(number) for number in numbers) for numbers in (ours, theirs)]
    assert fitting.version_fits(kind.requires.version, kind.requires.version_form, *texts) is (
        theirs >= ours
    )


def test_a_proof_of_nothing_is_no_proof_and_one_failed_check_is_enough() -> None:
    passed, failed = (CheckProof(title="t", passed=ok, detail="") for ok in (True, False))
    lists = proving.compare_census(
        LINUX, ALL, source(census={"packages": ["a"]}).head, {}, {"packages": ["a", "b"]}
    )
    assert proving.prove([], [], [passed], NOON).proved is False
    assert proving.prove(lists, [], [passed], NOON).proved is True
    assert proving.prove(lists, [], [failed], NOON).proved is False
    [packages] = [item for item in lists if item.name == "packages"]
    assert (packages.missing, packages.extra) == ([], ["b"])


def test_default_objects_of_a_fresh_target_are_not_extra() -> None:
    parts = [part.name for part in SKERRY.part]
    lists = proving.compare_census(
        SKERRY, parts, source(SKERRY, census={"shares": []}).head, {}, {"shares": ["public"]}
    )
    assert all(item.extra == [] for item in lists)


def test_what_a_target_must_have_already_and_the_room_it_must_have_are_blockers() -> None:
    needs = LINUX.requires.model_copy(update={"names": ["packages"], "room": "/"})
    kind = LINUX.model_copy(update={"requires": needs})
    assert codes(kind, source(), target(), "blocker") == ["target-lacks"]
    has_all = replace(target(), census={"packages": ["cron", "nginx"]})
    assert codes(kind, source(), has_all, "blocker") == []
    large = [
        Part(name=part.name, title="", documents=0, bytes=100, root=EMPTY) for part in kind.part
    ]
    assert codes(kind, source(parts=large), replace(has_all, room=10), "blocker") == ["no-room"]
    assert codes(kind, source(parts=large), replace(has_all, room=10_000), "blocker") == []


def test_members_of_a_replicated_set_are_told_with_how_the_backup_wins() -> None:
    kind, _ = shipped_kind("openldap-directory")
    assert kind.replicas is not None
    unnumbered = kind.replicas.model_copy(update={"numbers": None})
    kind = kind.model_copy(update={"replicas": unnumbered})
    alone = source(kind)
    member = source(kind, census={"replicates with": ["ldap://names-2.saltmere.example"]})
    parts = [part.name for part in kind.part]
    sheets = [planning.plan(kind, REPAIR, one, target(), parts, {}) for one in (alone, member)]
    told = [
        [finding for finding in sheet.findings if finding.code == "replicates"] for sheet in sheets
    ]
    assert told[0] == []
    assert "names-2.saltmere.example" in told[1][0].text
    assert "If the backup is to win" in told[1][0].remedy


@pytest.mark.parametrize(
    ("state", "begun", "acts"),
    [
        ("draft", False, ["begin"]),
        ("running", True, []),
        ("failed", False, ["continue"]),
        ("failed", True, ["continue", "undo"]),
        ("stopped", True, ["continue", "undo"]),
        ("not proved", True, ["prove", "undo"]),
        ("proved", True, ["prove"]),
        ("given up", True, []),
    ],
)
def test_a_sheet_says_what_may_be_done_with_it(
    state: SheetState, begun: bool, acts: list[SheetAct]
) -> None:
    sheet = planning.plan(LINUX, REPAIR, source(), target(), ALL, {})
    sheet.state = state
    if begun:
        next(step for step in sheet.steps if step.kind_step is not None).state = "done"
    assert sheet.acts() == acts


def test_a_sheet_that_waits_is_answered_and_one_that_was_given_up_is_not_continued() -> None:
    sheet = planning.plan(LINUX, REPAIR, source(), target(), ALL, {})
    gate = sheet.ask_anew("facts", None, "It has changed.", ["accept"])
    sheet.state = "waiting"
    assert sheet.acts() == ["answer"]
    gate.answer = "accept"
    assert sheet.acts() == []
    sheet.state, sheet.giving_up = "failed", True
    assert sheet.acts() == ["undo"]


def of_purpose(intent: planning.Intent, parts: list[str] = ALL, **changes: str) -> Sheet:
    one = replace(source(), address="10.0.0.1:22", machine="old", key="SHA256:old")
    return planning.plan(LINUX, intent, one, target(**changes), parts, {})


SEED = planning.Intent("seed", new_name="web-10")
PRACTICE = planning.Intent("practise", spare="spare-1")


@pytest.mark.parametrize(
    ("intent", "said"),
    [
        (REPAIR, "Its machine has another id or key: once a person accepts"),
        (planning.Intent("replace"), "Until then it is the one at 10.0.0.1:22."),
        (PRACTICE, "Nothing of web-9 changes."),
        (SEED, "the machine at 10.0.0.2:22 is enrolled as web-10. Nothing of web-9 changes."),
    ],
    ids=lambda value: value.purpose if isinstance(value, planning.Intent) else "",
)
def test_a_sheet_says_what_the_estate_does_afterwards(intent: planning.Intent, said: str) -> None:
    assert said in purposes.estate_afterwards(of_purpose(intent))


@pytest.mark.parametrize(
    ("intent", "waits"), [(REPAIR, True), (planning.Intent("replace"), True), (PRACTICE, False)]
)
def test_what_is_proved_waits_for_a_person_where_the_estate_changes(
    intent: planning.Intent, waits: bool
) -> None:
    sheet = of_purpose(intent)
    assert not sheet.awaits_acceptance(), "it is not proved yet"
    sheet.state = "proved"
    assert sheet.awaits_acceptance() == waits
    assert ("accept" in sheet.acts()) == waits
    sheet.accepted = NOON
    assert not sheet.awaits_acceptance()


def test_a_repair_of_the_very_machine_needs_no_acceptance() -> None:
    one = replace(source(), address="10.0.0.2:22", machine="new", key="SHA256:old")
    sheet = planning.plan(LINUX, REPAIR, one, target(), ALL, {})
    sheet.state = "proved"
    assert not sheet.awaits_acceptance()


@pytest.mark.parametrize("intent", [planning.Intent("replace"), PRACTICE, SEED])
def test_the_systems_own_machine_is_only_repaired(intent: planning.Intent) -> None:
    one = replace(source(), address="10.0.0.1:22", machine="new", key="SHA256:old")
    sheet = planning.plan(LINUX, intent, one, target(), ALL, {})
    assert "own-machine" in [finding.code for finding in sheet.blockers()]


@pytest.mark.parametrize("intent", [planning.Intent("replace"), SEED])
def test_what_is_to_be_a_system_must_be_whole(intent: planning.Intent) -> None:
    assert "not-whole" in [one.code for one in of_purpose(intent, ["settings"]).blockers()]
    assert "not-whole" not in [one.code for one in of_purpose(PRACTICE, ["settings"]).blockers()]


@pytest.mark.parametrize(
    ("intent", "first"),
    [
        (REPAIR, "safety"),
        (PRACTICE, "safety"),
        (planning.Intent("practise"), "look"),
        (SEED, "look"),
    ],
)
def test_only_enrolled_systems_have_safety_copies(intent: planning.Intent, first: str) -> None:
    sheet = of_purpose(intent)
    assert sheet.steps[0].do == first
    assert ("not-saved" in [one.code for one in sheet.findings]) == (first == "look")
