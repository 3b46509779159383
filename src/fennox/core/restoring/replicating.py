"""A restored member of a replicated set and its peers: whose copy wins where they meet. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal, InvalidOperation
from typing import Literal

from fennox.core.errors import BadInput
from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Finding, Severity
from fennox.core.kinds.literals import Stance
from fennox.core.kinds.model import Kind
from fennox.core.kinds.rules import Replicas
from fennox.core.kinds.steps import StepModel
from fennox.core.names import printable
from fennox.core.places.sheet_model import RestorePurpose, SheetModel
from fennox.core.restoring.proof import ListProof
from fennox.core.words import first_few

_EVERYTHING = "everything"  # what a number without a name is of
Peers = Mapping[str, Census | str]
"""By host: the lists of a peer as they are now, or why they could not be read."""


Winner = Literal[
    "restored copy",
    "the claimed part alone",
    "peers",
    "the same",
    "unknown",
    "undecided",
    "nobody is met",
]


class SubtreeNumbers(SheetModel):
    """How far each side's copy of one subtree is, and whose will win. ``backup`` empty: the backup
    has none.
    """

    name: str
    backup: str
    peers: dict[str, str]  # by host; only of those that have it
    winner: Winner


class ReplicaPlan(SheetModel):
    """``stance`` None: nobody has decided. ``claim``: the subtree or object that wins by itself;
    empty: all. ``raised``: by how much numbers are raised. ``unseen``: peers that could not be
    read, with the reasons.
    """

    stance: Stance | None
    claim: str = ""
    raised: int = 0
    numbers: list[SubtreeNumbers] = []
    unseen: dict[str, str] = {}


def is_for(plan: ReplicaPlan | None, step: StepModel) -> bool:
    """Whether a step belongs to a restore with this decision; None: there are no peers."""
    stance, claim = (plan.stance, plan.claim) if plan is not None else (None, "")
    match step.when:
        case None:
            return step.do != "agree" or (plan is not None and stance != "apart")
        case "win-all":
            return stance == "win" and not claim
        case "win-part":
            return stance == "win" and bool(claim)
        case wanted:
            return stance == wanted


def placeholders(plan: ReplicaPlan | None) -> dict[str, str]:
    return {"claim": plan.claim, "raise": str(plan.raised)} if plan is not None else {}


def stance_for(purpose: RestorePurpose, wanted: Stance | None) -> Stance | None:
    """Practice and new systems stay apart from the set; what is returned yields to it."""
    if purpose in ("practise", "seed"):
        return "apart"
    return "yield" if purpose == "return" else wanted


def planned(
    kind: Kind, census: Census, peers: Peers, stance: Stance | None, claim: str
) -> ReplicaPlan | None:
    """``census``: of the backup. None: such systems have no numbers. Raises BadInput for a claim of
    what the backup does not hold.
    """
    rule = kind.replicas
    if rule is None or rule.numbers is None or not census.get(rule.list):
        if stance == "win" or claim:
            raise BadInput(
                f"This {kind.title} has no peers that it could win over.", "Leave --peers away."
            )
        return None
    if claim:
        _must_be_held(rule, census, claim)
    ours = _numbers(census.get(rule.numbers, []))
    theirs = {
        host: _numbers(told.get(rule.numbers, []))
        for host, told in peers.items()
        if not isinstance(told, str)
    }
    numbers = [
        SubtreeNumbers(
            name=name,
            backup=ours.get(name, ""),
            peers={host: told[name] for host, told in theirs.items() if name in told},
            winner=_winner(
                rule,
                stance,
                claim,
                name,
                ours.get(name, ""),
                [told[name] for told in theirs.values() if name in told],
            ),
        )
        for name in sorted({*ours, *(name for told in theirs.values() for name in told)})
    ]
    unseen = {host: told for host, told in peers.items() if isinstance(told, str)}
    raised = 0
    if stance == "win" and rule.margin is not None:
        held = [_value(number) for one in numbers for number in one.peers.values()]
        raised = int(max(held, default=Decimal(0))) + rule.margin
    return ReplicaPlan(stance=stance, claim=claim, raised=raised, numbers=numbers, unseen=unseen)


def _must_be_held(rule: Replicas, census: Census, claim: str) -> None:
    held = [name for listed in (rule.scopes, *rule.lists) for name in census.get(listed or "", [])]
    if claim not in held:
        known = first_few(sorted(census.get(rule.scopes or "", [])), 8) or "none"
        raise BadInput(
            f"The backup holds no {printable(claim)} that could win by itself.",
            f"Subtrees are: {known}. An object is named as its list has it.",
            field="claim",
        )


def _numbers(listed: Sequence[str]) -> dict[str, str]:
    """Of entries ``name number``, the highest of each name; a number alone is of everything."""
    found: dict[str, str] = {}
    for entry in listed:
        name, _, number = entry.rpartition(" ")
        name = name or _EVERYTHING
        if name not in found or _value(number) > _value(found[name]):
            found[name] = number
    return found


def _value(number: str) -> Decimal:
    try:
        return Decimal(number)
    except InvalidOperation:
        return Decimal(0)


def in_scope(rule: Replicas, claim: str, name: str) -> bool:
    if not claim or name == claim:
        return True
    return name.startswith(f"{claim}/") if rule.scope_is == "before" else name.endswith(f",{claim}")


def overtaken(plan: ReplicaPlan, peers: Peers, rule: Replicas) -> str:
    """Why raised numbers would not win any more, as a sentence; empty: they would."""
    if plan.stance != "win" or rule.margin is None or rule.numbers is None:
        return ""
    for host, told in sorted(peers.items()):
        listed = [] if isinstance(told, str) else told.get(rule.numbers, [])
        for name, number in _numbers(listed).items():
            if _value(number) >= plan.raised:
                return (
                    f"{host} has gone on to {number} in {printable(name)} since the draft, and this"
                    f" copy would be raised by {plan.raised} only: the peers would win."
                )
    return ""


def unseen_now(peers: Peers) -> list[str]:
    """Peers that cannot be read any more, each with the reason."""
    return [f"{host}: {told}" for host, told in sorted(peers.items()) if isinstance(told, str)]


def _winner(
    rule: Replicas, stance: Stance | None, claim: str, name: str, ours: str, theirs: Sequence[str]
) -> Winner:
    if stance == "apart":
        return "nobody is met"
    if stance is None:
        return "undecided"
    if stance == "win" and in_scope(rule, claim, name):
        return "restored copy"
    if stance == "win" and (name == _EVERYTHING or in_scope(rule, name, claim)):
        return "the claimed part alone"
    if not theirs:
        return "unknown"
    if all(_value(number) == _value(ours) for number in theirs):
        return "the same"
    # yielding is no more than not winning: a copy that is ahead wins all the same
    return "restored copy" if _value(ours) > max(map(_value, theirs)) else "peers"


def findings(kind: Kind, plan: ReplicaPlan | None) -> Iterator[Finding]:
    rule = kind.replicas
    if plan is None or rule is None:
        return
    if plan.stance is None:
        yield _say(
            "blocker",
            "replicas-undecided",
            "It belongs to a replicated set, and nobody has decided whose copy wins.",
            "Draft with --peers win (perhaps with --claim NAME), or with --peers yield."
            f" {rule.means}",
        )
    if plan.stance == "apart" and not any(step.when == "apart" for _, step in kind.steps()):
        yield _say(
            "blocker",
            "meets-its-peers",
            "Nothing in this kind keeps a copy apart from the set: it would meet the peers.",
            "Practise where none of the peers can be reached, by hand.",
        )
    if plan.stance == "yield" and not any(one.peers for one in plan.numbers):
        yield _say(
            "blocker",
            "nobody-to-yield-to",
            "No other member was read, and this copy is to yield to them.",
            "See that they run, or have this copy win: --peers win.",
        )
    for host, why in sorted(plan.unseen.items()):
        yield _say(
            "warning",
            "peer-unseen",
            f"It is not known how far {host} is: {why}",
            "Look at it yourself before you begin.",
        )
    ahead = [one.name for one in plan.numbers if one.winner == "restored copy"]
    if plan.stance == "yield" and ahead:
        yield _say(
            "warning",
            "yields-and-wins",
            f"No peer is as far as the backup in {first_few(ahead, 8)}: there it wins although it"
            " is to yield.",
        )
    if plan.raised:
        yield _say(
            "note",
            "replica-raised",
            f"Its numbers are raised by {plan.raised}: more than any peer that was read has, and"
            f" {rule.margin} for what they do meanwhile.",
        )


def _say(severity: Severity, code: str, text: str, remedy: str = "") -> Finding:
    return Finding(severity=severity, code=code, text=text, remedy=remedy)


def claimed(rule: Replicas | None, plan: ReplicaPlan | None, census: Census) -> Census:
    """Without the names that are not claimed, in the lists that the winner decides."""
    if rule is None or plan is None or plan.stance != "win" or not plan.claim:
        return census
    return {
        listed: [name for name in names if in_scope(rule, plan.claim, name)]
        if listed in rule.lists
        else names
        for listed, names in census.items()
    }


def decided(
    rule: Replicas | None, plan: ReplicaPlan | None, lists: list[ListProof]
) -> tuple[list[ListProof], list[str]]:
    """The lists that the backup decides, and the names of those that the peers decide.
    ``lists``: of what is :func:`claimed`.
    """
    if rule is None or plan is None:
        return lists, []
    kept, theirs = [], []
    for item in lists:
        if plan.stance == "apart" and item.name == rule.list:
            theirs.append(f"{item.name}, which it must not meet")
        elif item.name not in rule.lists:
            kept += [] if item.name in (*rule.equal, rule.numbers) else [item]
        elif plan.stance == "yield":
            theirs.append(f"{item.name}, which the peers decide")
        elif not plan.claim or plan.stance == "apart":
            kept.append(item)
        else:
            kept.append(item.model_copy(update={"name": f"{item.name} in {plan.claim}"}))
            theirs.append(f"{item.name} outside {plan.claim}, which the peers decide")
    return kept, theirs


def agreement(rule: Replicas, own: Census, peers: Peers) -> tuple[bool, str]:
    """Whether all peers that were read have what the target has, and what was seen."""
    seen, unseen = [], []
    for host, told in sorted(peers.items()):
        if isinstance(told, str):
            unseen.append(f"{host} is not known ({told.rstrip('.')})")
            continue
        seen.append(host)
        for name in rule.equal or rule.lists:
            here, there = set(own.get(name, [])), set(told.get(name, []))
            if here != there:
                some = first_few(sorted(here ^ there), 4)
                return False, f"{host} has otherwise of {name}: {some}"
    also = f"; {'; '.join(unseen)}" if unseen else ""
    if not seen:
        return False, f"no peer was read{also}"
    return True, f"{', '.join(seen)} {'has' if len(seen) == 1 else 'have'} the same{also}"
