"""Whose copy wins where a restored member of a replicated set meets its peers."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fennox.core.errors import BadInput
from fennox.core.kind_files.loading import load
from fennox.core.kinds.model import Kind
from fennox.core.restoring import replicating
from fennox.core.restoring.proof import ListProof
from fennox.core.restoring.replicating import Peers
from tests.engine.keeper import shipped_text

KELP: Kind = load(shipped_text("kelp-member"), shipped_text)
assert KELP.replicas is not None
RULE = KELP.replicas
CENSUS = {
    "peers": ["quay", "holm"],
    "numbers": ["crew 4", "piers 7"],
    "subtrees": ["crew", "piers"],
    "entries": ["crew/anna"],
}
PEERS: Peers = {"quay": {"numbers": ["crew 9", "piers 5"]}, "holm": "it does not answer."}


def test_without_a_decision_nothing_begins() -> None:
    plan = replicating.planned(KELP, CENSUS, PEERS, None, "")
    found = {one.code: one for one in replicating.findings(KELP, plan)}
    assert found["replicas-undecided"].severity == "blocker"
    assert "holm" in found["peer-unseen"].text


def test_a_copy_that_yields_and_is_ahead_wins_and_that_is_said() -> None:
    plan = replicating.planned(KELP, CENSUS, PEERS, "yield", "")
    assert plan is not None
    assert {one.name: one.winner for one in plan.numbers} == {
        "crew": "peers",
        "piers": "restored copy",
    }
    [said] = [one for one in replicating.findings(KELP, plan) if one.code == "yields-and-wins"]
    assert "piers" in said.text


def test_where_there_are_no_peers_nobody_is_asked() -> None:
    assert replicating.planned(KELP, {**CENSUS, "peers": []}, {}, None, "") is None
    with pytest.raises(BadInput):
        replicating.planned(KELP, {**CENSUS, "peers": []}, {}, "win", "")


def test_nobody_can_claim_what_the_backup_does_not_hold() -> None:
    for claim in ("crew/bo", "cargo", "crew/"):
        with pytest.raises(BadInput) as error:
            replicating.planned(KELP, CENSUS, PEERS, "win", claim)
        assert "crew, piers" in error.value.remedy


def test_where_no_peer_was_read_the_winner_is_unknown() -> None:
    plan = replicating.planned(KELP, CENSUS, {"holm": "away."}, "yield", "")
    assert plan is not None
    assert {one.winner for one in plan.numbers} == {"unknown"}
    assert "nobody-to-yield-to" in [one.code for one in replicating.findings(KELP, plan)]
    agrees, said = replicating.agreement(RULE, {}, {"holm": "away."})
    assert not agrees
    assert "holm is not known" in said


numbers = st.dictionaries(st.sampled_from(["crew", "piers", "people"]), st.integers(0, 10**9))


@given(ours=numbers, theirs=st.dictionaries(st.sampled_from(["a", "b", "c"]), numbers))
def test_raised_numbers_exceed_every_peers(
    ours: dict[str, int], theirs: dict[str, dict[str, int]]
) -> None:
    census = {"peers": ["a"], "numbers": [f"{name} {number}" for name, number in ours.items()]}
    peers: Peers = {
        host: {"numbers": [f"{name} {number}" for name, number in held.items()]}
        for host, held in theirs.items()
    }
    plan = replicating.planned(KELP, census, peers, "win", "")
    assert plan is not None
    highest = max((n for held in theirs.values() for n in held.values()), default=0)
    assert plan.raised > highest
    assert replicating.overtaken(plan, peers, RULE) == ""
    further: Peers = {"a": {"numbers": [f"crew {plan.raised}"]}}
    assert "the peers would win" in replicating.overtaken(plan, further, RULE)


@given(st.sampled_from(["win", "yield", "apart"]), st.sampled_from(["", "crew", "crew/anna"]))
def test_the_proof_is_of_what_the_backup_decides(stance: str, claim: str) -> None:
    plan = replicating.ReplicaPlan.model_validate({"stance": stance, "claim": claim})
    missing = ["crew/anna 1", "piers/holm 2"]
    item = ListProof(name="contents", backup=2, fresh=0, after=0, missing=missing, extra=[])
    kept, theirs = replicating.decided(RULE, plan, [item])
    if stance == "yield":
        assert kept == []
        assert theirs == ["contents, which the peers decide"]
    elif stance == "win" and claim:
        assert [one.name for one in kept] == [f"contents in {claim}"]
        assert theirs == [f"contents outside {claim}, which the peers decide"]
    else:
        assert kept == [item]


def test_only_what_is_claimed_is_counted() -> None:
    plan = replicating.ReplicaPlan(stance="win", claim="crew")
    census = {"contents": ["crew/anna 1", "piers/holm 2"], "peers": ["quay"]}
    held = {"contents": ["crew/anna 1"], "peers": ["quay"]}
    assert replicating.claimed(RULE, plan, census) == held
    assert replicating.claimed(RULE, plan.model_copy(update={"claim": ""}), census) == census
