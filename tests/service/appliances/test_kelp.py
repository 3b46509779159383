"""A member of a replicated directory: whose copy wins is decided before it meets its peers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from fennox.client.api import ProblemError
from fennox.core.restoring.sheet import Sheet
from fennox.wire.backups import NewTake
from saltmere.kelp.machine import KelpServer
from tests.service.appliances.conftest import ProtectedSet
from tests.service.running import came_to


def answered(kelp: ProtectedSet, sheet: str, at: dict[str, Callable[[], object]]) -> Any:
    """Start a restore, do at each gate what its question says, and answer it."""
    client, service = kelp.first.client, kelp.first.service
    run = service.ended(client.start_restore(sheet).id)
    while run.state == "waiting":
        gate = shown(kelp, sheet).open_gate()
        assert gate is not None
        [act] = [act for words, act in at.items() if words in gate.question]
        act()
        run = service.ended(client.answer(sheet, gate.number, "done").id)
    return run


def shown(kelp: ProtectedSet, sheet: str) -> Sheet:
    return kelp.first.client.sheet(sheet).sheet


def at_the_machine(new: KelpServer) -> dict[str, Callable[[], object]]:
    return {
        "Choose the repair mode": lambda: new.choose("repair"),
        "Choose the ordinary mode": lambda: new.choose("ordinary"),
    }


def restored(kelp: ProtectedSet, sheet: str, new: KelpServer) -> Any:
    run = answered(kelp, sheet, at_the_machine(new))
    assert run.state == "done", (run.reason, shown(kelp, sheet).proof)
    return run


def notes(kelp: ProtectedSet, sheet: str) -> dict[str, str]:
    return {one.code: one.text for one in shown(kelp, sheet).findings}


def winners(kelp: ProtectedSet, sheet: str) -> dict[str, str]:
    """Foretold, by subtree."""
    plan = shown(kelp, sheet).replica
    assert plan is not None
    return {one.name: one.winner for one in plan.numbers}


def mistakes(kelp: ProtectedSet) -> None:
    """What the peers did after the backup."""
    kelp.others[0].do("set", "crew/anna", "a mistake")
    kelp.others[0].do("set", "piers/holm", "another mistake")


def test_lost_it_comes_back_and_wins_over_what_its_peers_did(kelp: ProtectedSet) -> None:
    backup, before = kelp.first.take(), kelp.first.machine.state()
    new = kelp.first.fresh()
    kelp.first.machine.lose()
    mistakes(kelp)
    sheet = kelp.draft(backup, new, peers="win")
    plan = shown(kelp, sheet).replica
    assert plan is not None
    [crew] = [one for one in plan.numbers if one.name == "crew"]
    assert crew.winner == "restored copy"
    assert crew.backup == "4"
    assert set(crew.peers.values()) == {"8"}
    assert list(crew.peers) == [one.host for one in kelp.others]
    assert came_to(restored(kelp, sheet, new), "proved")
    assert new.state() == before
    assert kelp.others[0].state() == kelp.others[1].state() == before
    [agreed] = [step for step in shown(kelp, sheet).steps if step.do == "agree"]
    assert "have the same" in agreed.detail


def test_nobody_has_decided(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    sheet = kelp.draft(backup, new)
    blockers = {one.code: one for one in shown(kelp, sheet).blockers()}
    assert "nobody has decided whose copy wins" in blockers["replicas-undecided"].text
    assert "--peers yield" in blockers["replicas-undecided"].remedy
    with pytest.raises(ProblemError):
        kelp.first.client.start_restore(sheet)


def test_a_subtree_wins_by_itself(kelp: ProtectedSet) -> None:
    backup, before = kelp.first.take(), dict(kelp.first.machine.state())
    new = kelp.first.fresh()
    kelp.first.machine.lose()
    mistakes(kelp)
    sheet = kelp.draft(backup, new, peers="win", claim="crew")
    assert winners(kelp, sheet) == {"crew": "restored copy", "people": "the same", "piers": "peers"}
    assert came_to(restored(kelp, sheet, new), "proved")
    after = dict(kelp.others[1].state())
    assert after["crew/anna"] == before["crew/anna"]
    assert after["piers/holm"] != before["piers/holm"]
    proof = shown(kelp, sheet).proof
    assert proof is not None
    [crew] = [one for one in proof.lists if one.name == "contents in crew"]
    assert (crew.backup, crew.after) == (3, 3), "nothing of other subtrees is counted"
    assert "contents outside crew, which the peers decide" in proof.left_out_lists


def test_one_entry_wins_by_itself(kelp: ProtectedSet) -> None:
    backup, before = kelp.first.take(), dict(kelp.first.machine.state())
    mistakes(kelp)
    kelp.others[1].do("set", "crew/bo", "a third mistake")
    new = kelp.first.fresh()
    kelp.first.machine.lose()
    sheet = kelp.draft(backup, new, peers="win", claim="crew/anna")
    assert winners(kelp, sheet)["crew"] == "the claimed part alone"
    assert came_to(restored(kelp, sheet, new), "proved")
    after = dict(kelp.others[0].state())
    assert after["crew/anna"] == before["crew/anna"]
    assert after["crew/bo"] != before["crew/bo"]


def test_it_yields(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    kelp.first.machine.lose()
    mistakes(kelp)
    sheet = kelp.draft(backup, new, peers="yield")
    assert winners(kelp, sheet) == {"crew": "peers", "people": "the same", "piers": "peers"}
    assert came_to(restored(kelp, sheet, new), "proved")
    assert new.state() == kelp.others[0].state()
    proof = shown(kelp, sheet).proof
    assert proof is not None
    assert "contents, which the peers decide" in proof.left_out_lists


def test_the_gate_looks_whether_it_is_held(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    sheet = kelp.draft(backup, new, peers="win")
    service, client = kelp.first.service, kelp.first.client
    service.ended(client.start_restore(sheet).id)
    gate = shown(kelp, sheet).open_gate()
    assert gate is not None
    service.ended(client.answer(sheet, gate.number, "done").id)
    again = shown(kelp, sheet).open_gate()
    assert again is not None
    assert "The target does not show it yet" in again.question


def test_started_without_its_claim_it_is_not_proved(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    kelp.first.machine.lose()
    mistakes(kelp)
    sheet = kelp.draft(backup, new, peers="win")
    acts = at_the_machine(new)

    def unclaimed() -> None:
        """Somebody at the machine loads it once more, and starts it."""
        [save] = (new.folder / "var/lib/kelp/saves").glob("*.kelp")
        new.do("load", feed=save.read_text())
        new.choose("ordinary")

    run = answered(kelp, sheet, {**acts, "Choose the ordinary mode": unclaimed})
    assert not came_to(run, "proved")
    proof = shown(kelp, sheet).proof
    assert proof is not None
    [contents] = [one for one in proof.lists if one.name == "contents"]
    assert [name.split()[0] for name in contents.missing] == ["crew/anna", "piers/holm"]


def test_a_claim_that_the_peers_have_overtaken_is_not_made(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    kelp.first.machine.lose()
    sheet = kelp.draft(backup, new, peers="win")
    acts = at_the_machine(new)

    def overtaken() -> None:
        new.choose("repair")
        far = kelp.others[0]
        far.choose("repair")
        far.do("claim", "crew", "--by", "900000")
        far.choose("ordinary")

    run = answered(kelp, sheet, {**acts, "Choose the repair mode": overtaken})
    assert run.state == "failed"
    assert "the peers would win" in run.reason


def test_practice_never_meets_the_set(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    mistakes(kelp)
    before = kelp.others[0].state()
    sheet = kelp.draft(backup, new, purpose="practise")
    assert set(winners(kelp, sheet).values()) == {"nobody is met"}
    assert came_to(restored(kelp, sheet, new), "proved")
    assert new.told("about")["alone"] is True
    assert kelp.others[0].state() == before


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ({"claim": "crew"}, "A claim is of a copy that wins"),
        ({"claim": "crew", "peers": "yield"}, "A claim is of a copy that wins"),
        ({"peers": "win", "purpose": "practise"}, "never meets the peers"),
    ],
)
def test_a_decision_that_would_not_be_heeded_is_refused(
    kelp: ProtectedSet, more: dict[str, str], said: str
) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    with pytest.raises(ProblemError, match=said):
        kelp.first.client.draft(kelp.wanted(backup, new, **more))


def test_a_claim_of_what_the_backup_does_not_hold_is_refused(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    wanted = kelp.wanted(backup, new, peers="win", claim="cargo")
    run = kelp.first.service.ended(kelp.first.client.draft(wanted).id)
    assert run.state == "failed"
    assert "The backup holds no cargo" in run.reason


def test_two_members_are_not_restored_at_once(kelp: ProtectedSet) -> None:
    backup, new, other = kelp.first.take(), kelp.first.fresh(), kelp.first.fresh()
    client, service = kelp.first.client, kelp.first.service
    systems = {one.address: one.name for one in client.systems(kind="kelp-member")}
    second = systems[kelp.others[0].address]
    run = service.ended(client.take(NewTake(system=second)).id)
    theirs = str(came_to(run, "backup"))
    first = kelp.draft(backup, new, peers="win")
    then = kelp.draft(theirs, other, peers="win", login=f"{kelp.first.name}-new")
    waiting = service.ended(client.start_restore(first).id)
    assert waiting.state == "waiting"
    with pytest.raises(ProblemError, match="a member of the same set, is being restored"):
        client.start_restore(then)


def test_a_second_restore_of_a_set_sees_what_the_first_one_raised(kelp: ProtectedSet) -> None:
    backup = kelp.first.take()
    new = kelp.first.fresh()
    kelp.first.machine.lose()
    first = kelp.draft(backup, new, peers="win")
    assert came_to(restored(kelp, first, new), "proved")
    other = kelp.first.fresh()
    second = shown(kelp, kelp.draft(backup, other, peers="win")).replica
    assert second is not None
    assert second.raised > max(
        int(number) for one in second.numbers for number in one.peers.values()
    )
    assert all(int(n) > 100_000 for one in second.numbers for n in one.peers.values())


def test_a_peer_that_is_away_is_unknown(kelp: ProtectedSet) -> None:
    backup, new = kelp.first.take(), kelp.first.fresh()
    away = kelp.others[1]
    away.stop()
    found = notes(kelp, kelp.draft(backup, new, peers="win"))
    assert f"It is not known how far {away.host} is" in found["peer-unseen"]


def test_a_member_that_fell_behind_is_said(kelp: ProtectedSet) -> None:
    kelp.others[1].do("alone")
    kelp.first.machine.do("set", "crew/anna", "mate")
    found = {one.code: one.text for one in kelp.first.client.backup(kelp.first.take()).findings}
    assert kelp.others[1].host in found["unmet-peer"]


def test_what_no_save_holds_is_said(kelp: ProtectedSet) -> None:
    kelp.first.machine.do("set", "crew/dora", "cook")
    found = {one.code: one.text for one in kelp.first.client.backup(kelp.first.take()).findings}
    assert "crew/dora" in found["unsaved-entry"]


def test_a_save_that_has_not_ended_is_said_and_not_taken(kelp: ProtectedSet) -> None:
    kelp.first.machine.cut_save_short()
    client, service = kelp.first.client, kelp.first.service
    run = service.ended(client.take(NewTake(system=kelp.first.name)).id)
    assert run.state == "failed"
    assert "there is no save that has ended" in run.reason
