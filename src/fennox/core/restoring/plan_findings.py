"""Findings of a plan: blockers, and what a person must know before starting."""

from __future__ import annotations

from collections.abc import Iterator

from fennox.core.format.manifest import Finding, Severity
from fennox.core.kinds.expressions import wanted
from fennox.core.kinds.model import Kind
from fennox.core.restoring import proving
from fennox.core.restoring.fitting import other_machine, version_fits
from fennox.core.restoring.plan_inputs import (
    RestoreSource,
    Target,
    left_out_essentials,
    written_parts,
)
from fennox.core.restoring.plan_steps import RULES
from fennox.core.restoring.sheet import Overwrites
from fennox.core.words import first_few


def findings_of(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str], overwrites: Overwrites
) -> list[Finding]:
    """In the order a person needs them: blockers by identity, blockers by contents, then
    consequences.
    """
    return [
        *_of_kind_and_version(kind, source, target),
        *_never_put_back(kind, parts),
        *_programs(kind, source, target, parts),
        *_other_numbers(kind, source, target, parts),
        *other_machine(kind, source.head, target.census),
        *_lacks(kind, source, target, parts),
        *_by_hand(kind),
        *_not_held(source, parts),
        *source.standing,
        *(finding for finding in source.head.findings if finding.severity != "note"),
        *_identity(kind, source, target, parts),
        *_only_on_target(kind, source, target, parts),
        *_never_counted(kind, source, target),
        *_unread(kind, target),
        *_overwrites(overwrites),
    ]


def _say(severity: Severity, code: str, text: str, remedy: str = "") -> Finding:
    return Finding(severity=severity, code=code, text=text, remedy=remedy)


def _of_kind_and_version(kind: Kind, source: RestoreSource, target: Target) -> Iterator[Finding]:
    """Whether such a backup can be restored on the target."""
    ours, theirs = source.head.machine, target.machine
    if source.head.kind.name != kind.name:
        yield _say(
            "blocker",
            "other-kind",
            f"The backup is of the kind {source.head.kind.name}, the target of {kind.name}.",
            "Choose a target of the same kind.",
        )
    if kind.requires.product == "same" and ours.product != theirs.product:
        yield _say(
            "blocker",
            "other-product",
            f"The backup is of {ours.product}, the target is {theirs.product}.",
            f"Install {ours.product} on the target.",
        )
    elif not version_fits(
        kind.requires.version, kind.requires.version_form, ours.version, theirs.version
    ):
        yield _say(
            "blocker",
            "other-version",
            f"The backup is of version {ours.version}, the target has {theirs.version}; "
            f"{RULES[kind.requires.version]}.",
            f"Install version {ours.version} on the target.",
        )
    elif ours.version != theirs.version:
        yield _say(
            "warning",
            "version-differs",
            f"The backup is of version {ours.version}, the target has {theirs.version}.",
        )
    if kind.requires.platform == "same" and ours.platform != theirs.platform:
        yield _say(
            "blocker",
            "other-platform",
            f"The backup is of {ours.platform}, the target is {theirs.platform}.",
            "Choose a target of the same platform.",
        )


def _never_put_back(kind: Kind, parts: list[str]) -> Iterator[Finding]:
    """Parts that no step restores."""
    if to_read := [kind.part_named(name).title for name in parts if name not in kind.put_back()]:
        yield _say(
            "note",
            "no-step",
            f"No step puts back what is there to be read: {', '.join(to_read)}.",
            "`fennox backup export` gives it to you.",
        )


def _lacks(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str]
) -> Iterator[Finding]:
    """What must be on the target, what it must say of itself, and room for what is written."""
    for must in kind.requires.target:
        applies = not must.parts or any(part in parts for part in must.parts)
        if applies and must.holds not in target.census.get(must.in_, []):
            said = first_few(target.census.get(must.in_, []), 3) or "nothing"
            yield _say(
                "blocker",
                "target-otherwise",
                f"The target says {must.in_}: {said}, and not {must.holds}.",
                must.otherwise,
            )
    for required in kind.requires.names:
        held_there = target.census.get(required, [])
        absent = [name for name in source.head.census.get(required, []) if name not in held_there]
        if absent:
            yield _say(
                "blocker",
                "target-lacks",
                f"The target lacks of {required}: {first_few(absent, 8)}.",
                "Add them to the target, then draft again.",
            )
    needed = sum(
        part.bytes for part in source.head.parts if part.name in written_parts(kind, parts)
    )
    if target.room is not None and target.room < needed:
        yield _say(
            "blocker",
            "no-room",
            f"{kind.requires.room} on the target has {target.room} bytes left; "
            f"{needed} are to be written.",
            "Make room on the target.",
        )
    rule = kind.replicas if kind.replicas is None or kind.replicas.numbers is None else None
    if rule is not None and (peers := source.head.census.get(rule.list, [])):
        yield _say(
            "warning",
            "replicates",
            f"It replicates with {first_few(peers, 8)}. {rule.means}",
            f"If the backup is to win: {rule.to_win} If the others are: {rule.to_yield}",
        )


def _by_hand(kind: Kind) -> Iterator[Finding]:
    """Documents that people hand in and load manually."""
    for part, piece, hand in kind.hand_ins():
        yield _say(
            "note",
            "by-hand",
            f"{part.title} ({piece.document}) is not in this backup: people hand it in, and load "
            "it again by hand.",
            hand.how,
        )


def _not_held(source: RestoreSource, parts: list[str]) -> Iterator[Finding]:
    """Parts that the backup lacks."""
    held = {part.name for part in source.head.parts}
    for name in parts:
        if name not in held:
            yield _say(
                "blocker",
                "part-not-held",
                f"The backup does not hold the part {name}.",
                "Leave it out.",
            )


def _identity(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str]
) -> Iterator[Finding]:
    """Whether the target is the machine of the backup, and who it is afterwards."""
    ours, theirs = source.head.machine, target.machine
    if ours.id == theirs.id:
        yield _say(
            "warning",
            "in-place",
            "The target is the very machine the backup was taken from, not a fresh one.",
            "Go on only if you want to turn it back to the day of the backup.",
        )
    elif left_out_essentials(kind, parts):
        yield _say(
            "note",
            "other-machine",
            f"The target is another machine ({theirs.id}); it only gets these parts.",
        )
    else:
        yield _say("note", "other-machine", f"The target is another machine ({theirs.id}).")


def _only_on_target(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str]
) -> Iterator[Finding]:
    """What the target has but the backup does not."""
    for name, listed in sorted(target.census.items()):
        if name not in proving.counted_lists(kind, source.head):
            continue
        left = [value for value in listed if value not in source.head.census.get(name, [])]
        left = [value for value in left if value not in kind.defaults.get(name, [])]
        if left:
            goes = _taken_away(kind, parts, name) or _replaced(kind, source, parts, name)
            stays = "it goes" if goes else "it stays"
            yield _say(
                "note",
                "only-on-target",
                f"{name}: only the target has {first_few(left, 8)}; {stays}.",
            )


def _taken_away(kind: Kind, parts: list[str], listed: str) -> bool:
    """Whether a step takes away what only the target has of a list."""
    return any(
        listed in step.replaces
        or (step.each is not None and (step.each.names, step.each.list) == ("extra", listed))
        for _, step in kind.steps()
        if not step.parts or any(part in parts for part in step.parts)
    )


def _never_counted(kind: Kind, source: RestoreSource, target: Target) -> Iterator[Finding]:
    """Lists for which extra names on the target cannot be determined."""
    for step in (
        step for _, step in kind.steps() if step.each is not None and step.each.names == "extra"
    ):
        assert step.each is not None
        if (
            step.each.list not in proving.counted_lists(kind, source.head)
            and step.each.list in target.census
        ):
            yield _say(
                "warning",
                "never-counted",
                f"The backup never counted {step.each.list}: what only the target has of "
                "it stays, and nothing of it is proved.",
            )


def _unread(kind: Kind, target: Target) -> Iterator[Finding]:
    """Parts of the target that could not be read."""
    for name, why in target.unread.items():
        yield _say(
            "warning",
            "unread",
            f"What the target holds of {kind.part_named(name).title} is not known: {why}",
            "If its program is not there yet, have it installed, then draft again.",
        )


def _overwrites(overwrites: Overwrites) -> Iterator[Finding]:
    """Number of documents overwritten, added and unchanged."""
    if overwrites.changed_count:
        yield _say(
            "note",
            "overwrites",
            f"Documents of the target: {overwrites.changed_count} overwritten,"
            f" {overwrites.added_count} added, {overwrites.staying_count} that only it has stay.",
        )


def _programs(kind: Kind, source: RestoreSource, target: Target, parts: list[str]) -> list[Finding]:
    """Programs on the machine whose version matters: a target without one, or with one that does
    not fit.
    """
    found = []
    covered, _ = proving.covered_lists(kind, parts)
    for program in kind.programs:
        ours, theirs = (
            census.get(program.list, []) for census in (source.head.census, target.census)
        )
        if not ours or program.list not in covered:
            continue
        if not theirs:
            text, remedy = (
                f"The target has no {program.title} that answers.",
                f"Install {program.title} {ours[0]}.",
            )
        elif not version_fits(program.version, r"\d+", ours[0], theirs[0]):
            text = (
                f"The backup is of {program.title} {ours[0]}, the target has {theirs[0]};"
                f" {RULES[program.version]}."
            )
            remedy = f"Install {program.title} {ours[0]} on the target."
        else:
            continue
        found.append(Finding(severity="blocker", code="other-program", text=text, remedy=remedy))
    return found


def _other_numbers(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str]
) -> list[Finding]:
    """Accounts to which the fresh installation gave other numbers, by which it already owns
    files.
    """
    found = []
    for listed in kind.numbers:
        if listed not in proving.counted_lists(kind, source.head) or not _replaced(
            kind, source, parts, listed
        ):
            continue
        ours, theirs = (
            dict(entry.rsplit(" ", 1) for entry in census.get(listed, []) if " " in entry)
            for census in (source.head.census, target.census)
        )
        others = [
            f"{name} {ours[name]} (there {theirs[name]})"
            for name in sorted(ours.keys() & theirs.keys())
            if ours[name] != theirs[name]
        ]
        if others:
            text = (
                f"{listed[0].upper()}{listed[1:]} of the backup are not those of the target:"
                f" {first_few(others, 8)}."
            )
            remedy = (
                "What the backup does not hold and the target owns by its own number, as data of a"
                " program, belongs to somebody else afterwards, or to nobody: give it to its owner"
                " by name once the restore is done."
            )
            found.append(
                Finding(severity="warning", code="other-numbers", text=text, remedy=remedy)
            )
    return found


def _replaced(kind: Kind, source: RestoreSource, parts: list[str], listed: str) -> bool:
    """Whether the restore replaces the documents a census list is read from, and so removes names
    of the target.
    """
    uploads = any(step.do == "upload" for _, step in kind.steps())
    paths = [path for part in written_parts(kind, parts) for path in source.documents.get(part, {})]
    content = [expression for expression in kind.census[listed] if expression.names is None]
    return uploads or any(
        wanted([expression.in_], path) for expression in content for path in paths
    )
