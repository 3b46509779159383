"""From a backup, a target and choices to a run sheet. Pure: everything it judges was read
before.
"""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import blake2b
from typing import Any, Literal

from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Finding, Head, Machine, Severity
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled, filled_json, wanted
from fennox.core.kinds.filling import filled_in
from fennox.core.kinds.literals import Phase
from fennox.core.kinds.model import Kind
from fennox.core.kinds.regexes import compiled
from fennox.core.kinds.rules import VersionRule
from fennox.core.kinds.steps import StepModel
from fennox.core.names import printable
from fennox.core.restoring import proving
from fennox.core.restoring.sheet import After, Facts, Overwrites, Place, Sheet, SheetStep

SCRATCH = "SCRATCH-FOLDER"  # stands for the folder that a validating step makes on the target
_SHOWN = 200  # names listed at most


@dataclass(frozen=True)
class Target:
    """The machine a restore writes to, as it is before: documents by part as path → digest."""

    machine: Machine
    place: Place
    documents: Mapping[str, Mapping[str, str]]
    census: Census
    room: int | None = None  # bytes left where the kind says there must be room
    unread: Mapping[str, str] = field(
        default_factory=dict
    )  # parts of which it tells nothing, and why


@dataclass(frozen=True)
class RestoreSource:
    """The backup, as a plan needs it. ``standing`` are findings about it: doubtful, expired,
    damaged.
    """

    backup: str
    system: str
    system_name: str
    head: Head
    documents: Mapping[str, Mapping[str, str]]
    login_account: str
    address: str = ""  # where the system is reached
    taken: datetime | None = None
    standing: list[Finding] = field(default_factory=list)


def plan(
    kind: Kind,
    source: RestoreSource,
    target: Target,
    parts: list[str],
    settings: Mapping[str, str],
    entrance: Place | None = None,
) -> Sheet:
    """Make the sheet. Blockers are findings in it, not errors: a person should see all of them at
    once.
    """
    kind = filled_in(kind, settings)
    overwrites = compare_documents(kind, source, target, parts)
    steps = _steps(kind, source, target, parts, settings)
    undo = _undo_steps(kind, source.head, target.census, steps, settings)
    after = _after(kind, source, target, parts)
    findings = _findings(kind, source, target, parts, overwrites)
    if after.login == "system" and after.place.account != source.login_account:
        text = (
            f"Afterwards {after.place.account} signs in; the system's login is of"
            f" {source.login_account}."
        )
        remedy = "Give the system the login of that day before you begin."
        findings.append(Finding(severity="warning", code="other-account", text=text, remedy=remedy))
    return Sheet(
        backup=source.backup,
        backup_taken=source.taken,
        system=source.system,
        system_name=source.system_name,
        kind=kind.name,
        kind_version=kind.version,
        parts=parts,
        target=target.place,
        entrance=entrance,
        target_machine=target.machine.id,
        target_product=target.machine.product,
        target_version=target.machine.version,
        settings=dict(settings),
        seen_settings=dict(settings),
        findings=findings,
        steps=steps,
        undo=undo,
        overwrites=overwrites,
        restarts=[step.title for step in steps if step.restarts],
        cannot_be_undone=[step.title for step in steps if not step.undone],
        after=after,
        facts=facts(kind, source.backup, target, overwrites),
        fresh_census=target.census,
        at_another_machine=at_another_machine(kind, parts, target.place.address, source.address),
    )


def at_another_machine(kind: Kind, parts: list[str], target: str, system: str) -> bool:
    """Whether a proved restore would make a machine at another address the system. Addresses of
    both.
    """
    becomes = any(step.do == "rejoin" for _, step in kind.steps()) and not left_out_essentials(
        kind, parts
    )
    return becomes and target != system


def facts(kind: Kind, backup: str, target: Target, overwrites: Overwrites) -> Facts:
    return Facts(
        backup=backup,
        kind=f"{kind.name} version {kind.version}",
        target_machine=target.machine.id,
        target_version=f"{target.machine.product} {target.machine.version}",
        target_address=target.place.address,
        target_key=target.place.key,
        overwrites=overwrites.digest,
    )


def changed_facts(then: Sheet, now: Sheet) -> list[str]:
    """In words, only what changed since a person agreed."""
    titles = {
        "backup": "the backup",
        "kind": "the kind",
        "target_machine": "the target's machine id",
        "target_version": "the target's version",
        "target_address": "the target's address",
        "target_key": "the target's host key or certificate",
    }
    found = [
        f"{title} was {getattr(then.facts, name)} and is now {getattr(now.facts, name)}"
        for name, title in titles.items()
        if getattr(then.facts, name) != getattr(now.facts, name)
    ]
    if then.facts.overwrites != now.facts.overwrites:
        found.append(
            f"what will be overwritten on the target is not what it was{_otherwise(then, now)}"
        )
    return found


def _otherwise(then: Sheet, now: Sheet) -> str:
    """Which documents, as far as both sheets name them."""
    before, after = then.overwrites, now.overwrites
    told = []
    for title, ours, theirs in (
        ("overwritten as well", after.changed, before.changed),
        ("overwritten no more", before.changed, after.changed),
        ("added as well", after.added, before.added),
        ("added no more", before.added, after.added),
    ):
        if names := [name for name in ours if name not in theirs]:
            told.append(f"{title}: {some([printable(name) for name in names])}")
    return f" ({'; '.join(told)})" if told else ""


def changed_settings(then: Mapping[str, str], now: Mapping[str, str]) -> list[str]:
    """In words, each setting of the system that is not what it was."""
    return [
        f"the setting {name} was {then.get(name, '')!r} and is now {now.get(name, '')!r}"
        for name in sorted(then.keys() | now.keys())
        if then.get(name) != now.get(name)
    ]


def counted_anew(then: list[Finding], now: list[Finding]) -> list[Finding]:
    """The findings of a sheet, with what they count on the target as the newer look saw it."""
    counting = {"overwrites", "only-on-target"}
    stands = [finding for finding in then if finding.code not in counting]
    return stands + [finding for finding in now if finding.code in counting]


def written_parts(kind: Kind, parts: list[str]) -> list[str]:
    """Chosen parts that a restore writes to the target as documents."""
    writing = {
        name for _, step in kind.steps() if step.do in ("write", "upload") for name in step.parts
    }
    return [part for part in parts if part in writing]


def compare_documents(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str]
) -> Overwrites:
    changed, added, same, staying = [], [], 0, 0
    for part in written_parts(kind, parts):
        ours, theirs = source.documents.get(part, {}), target.documents.get(part, {})
        for path, digest in sorted(ours.items()):
            if path not in theirs:
                added.append(path)
            elif theirs[path] == digest:
                same += 1
            else:
                changed.append(path)
        staying += len(theirs.keys() - ours.keys())
    running = blake2b(digest_size=16)
    for path in [*changed, "", *added]:
        running.update(path.encode("utf-8", "surrogatepass") + b"\0")
    return Overwrites(
        changed=changed[:_SHOWN],
        added=added[:_SHOWN],
        changed_count=len(changed),
        added_count=len(added),
        same_count=same,
        staying_count=staying,
        digest=running.hexdigest(),
    )


def version_numbers(form: str, version: str) -> list[int]:
    """The numbers of a version by the kind's form; letters count by their place (``4.2b`` >
    ``4.2a``).
    """
    return [
        int(part) if part.isdigit() else ord(part[0])
        for part in compiled(form).drawn(version)
        if part
    ]


def version_fits(rule: VersionRule, form: str, backup: str, target: str) -> bool:
    if rule == "any":
        return True
    if rule == "same":
        return backup == target
    ours, theirs = (version_numbers(form, text) for text in (backup, target))
    if rule == "same-major":
        return ours[:1] == theirs[:1] and bool(ours)
    return theirs >= ours


def _findings(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str], overwrites: Overwrites
) -> list[Finding]:
    found: list[Finding] = []

    def say(severity: Severity, code: str, text: str, remedy: str = "") -> None:
        found.append(Finding(severity=severity, code=code, text=text, remedy=remedy))

    ours, theirs = source.head.machine, target.machine
    if source.head.kind.name != kind.name:
        say(
            "blocker",
            "other-kind",
            f"The backup is of the kind {source.head.kind.name}, the target of {kind.name}.",
            "Choose a target of the same kind.",
        )
    if kind.requires.product == "same" and ours.product != theirs.product:
        say(
            "blocker",
            "other-product",
            f"The backup is of {ours.product}, the target is {theirs.product}.",
            f"Install {ours.product} on the target.",
        )
    elif not version_fits(
        kind.requires.version, kind.requires.version_form, ours.version, theirs.version
    ):
        say(
            "blocker",
            "other-version",
            f"The backup is of version {ours.version}, the target has {theirs.version}; "
            f"{_RULES[kind.requires.version]}.",
            f"Install version {ours.version} on the target.",
        )
    elif ours.version != theirs.version:
        say(
            "warning",
            "version-differs",
            f"The backup is of version {ours.version}, the target has {theirs.version}.",
        )
    if kind.requires.platform == "same" and ours.platform != theirs.platform:
        say(
            "blocker",
            "other-platform",
            f"The backup is of {ours.platform}, the target is {theirs.platform}.",
            "Choose a target of the same platform.",
        )
    if to_read := [kind.part_named(name).title for name in parts if name not in kind.put_back()]:
        say(
            "note",
            "no-step",
            f"No step puts back what is there to be read: {', '.join(to_read)}.",
            "`fennox backup export` gives it to you.",
        )
    found += _programs(kind, source, target, parts)
    found += _other_numbers(kind, source, target, parts)
    for required in kind.requires.names:
        held_there = target.census.get(required, [])
        absent = [name for name in source.head.census.get(required, []) if name not in held_there]
        if absent:
            say(
                "blocker",
                "target-lacks",
                f"The target lacks of {required}: {some(absent)}.",
                "Add them to the target, then draft again.",
            )
    needed = sum(
        part.bytes for part in source.head.parts if part.name in written_parts(kind, parts)
    )
    if target.room is not None and target.room < needed:
        say(
            "blocker",
            "no-room",
            f"{kind.requires.room} on the target has {target.room} bytes left; "
            f"{needed} are to be written.",
            "Make room on the target.",
        )
    if kind.replicas is not None and (peers := source.head.census.get(kind.replicas.list, [])):
        say(
            "warning",
            "replicates",
            f"It replicates with {some(peers)}. {kind.replicas.means}",
            f"If the backup is to win: {kind.replicas.to_win} If the others are:"
            f" {kind.replicas.to_yield}",
        )
    for part, piece, hand in kind.hand_ins():
        say(
            "note",
            "by-hand",
            f"{part.title} ({piece.document}) is not in this backup: people hand it in, and load "
            "it again by hand.",
            hand.how,
        )
    held = {part.name for part in source.head.parts}
    for name in parts:
        if name not in held:
            say(
                "blocker",
                "part-not-held",
                f"The backup does not hold the part {name}.",
                "Leave it out.",
            )
    found += source.standing
    found += [finding for finding in source.head.findings if finding.severity != "note"]
    if ours.id == theirs.id:
        say(
            "warning",
            "in-place",
            "The target is the very machine the backup was taken from, not a fresh one.",
            "Go on only if you want to turn it back to the day of the backup.",
        )
    elif left_out_essentials(kind, parts):
        say(
            "note",
            "other-machine",
            f"The target is another machine ({theirs.id}); it only gets these parts, and "
            f"does not become {source.system_name}.",
        )
    else:
        asked = at_another_machine(kind, parts, target.place.address, source.address)
        counts = "if you say so when you begin, it counts" if asked else "it counts"
        say(
            "note",
            "new-identity",
            f"The target is another machine ({theirs.id}); after the proof {counts} as "
            f"{source.system_name}, with all its backups.",
        )
    for name, listed in sorted(target.census.items()):
        if name not in proving.counted_lists(kind, source.head):
            continue
        left = [value for value in listed if value not in source.head.census.get(name, [])]
        left = [value for value in left if value not in kind.defaults.get(name, [])]
        if left:
            stays = "it goes" if _replaced(kind, source, parts, name) else "it stays"
            say("note", "only-on-target", f"{name}: only the target has {some(left)}; {stays}.")
    for step in (
        step for _, step in kind.steps() if step.each is not None and step.each.names == "extra"
    ):
        assert step.each is not None
        if (
            step.each.list not in proving.counted_lists(kind, source.head)
            and step.each.list in target.census
        ):
            say(
                "warning",
                "never-counted",
                f"The backup never counted {step.each.list}: what only the target has of "
                "it stays, and nothing of it is proved.",
            )
    for name, why in target.unread.items():
        say(
            "warning",
            "unread",
            f"What the target holds of {kind.part_named(name).title} is not known: {why}",
            "If its program is not there yet, have it installed, then draft again.",
        )
    if overwrites.changed_count:
        say(
            "note",
            "overwrites",
            f"{overwrites.changed_count} documents of the target are overwritten, "
            f"{overwrites.added_count} are added, {overwrites.staying_count} that only it has"
            " stay.",
        )
    return found


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
                f" {_RULES[program.version]}."
            )
            remedy = f"Install {program.title} {ours[0]} on the target."
        else:
            continue
        found.append(Finding(severity="blocker", code="other-program", text=text, remedy=remedy))
    return found


def _other_numbers(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str]
) -> list[Finding]:
    """Names that a fresh installation has given other numbers, by which it owns files already."""
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
                f" {some(others)}."
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
    """Whether the restore replaces the documents a census list is drawn from, and with them names
    of the target.
    """
    uploads = any(step.do == "upload" for _, step in kind.steps())
    paths = [path for part in written_parts(kind, parts) for path in source.documents.get(part, {})]
    content = [expression for expression in kind.census[listed] if expression.names is None]
    return uploads or any(
        wanted([expression.in_], path) for expression in content for path in paths
    )


_RULES = {
    "same": "they must be equal",
    "same-major": "the first number must be equal",
    "not-older": "the target must not be older",
    "any": "any will do",
}


def some(names: list[str]) -> str:
    return ", ".join(names[:8]) + (f" and {len(names) - 8} more" if len(names) > 8 else "")


def _steps(
    kind: Kind, source: RestoreSource, target: Target, parts: list[str], settings: Mapping[str, str]
) -> list[SheetStep]:
    steps = [
        SheetStep(
            number=1,
            phase="prepare",
            title="Save what the target holds now, as a backup on hold",
            do="safety",
            kind_step=None,
        )
    ]
    for index, phase, step in _in_order(kind):
        if step.parts and not any(part in parts for part in step.parts):
            continue
        names = names_for(kind, step, source.head, target.census)
        if step.each is not None and not names:
            continue
        steps.append(_sheet_step(len(steps) + 1, phase, index, step, names, settings))
    steps.append(
        SheetStep(
            number=len(steps) + 1,
            phase="check",
            title="Prove it: compare every name in the backup with the target, before and after",
            do="proof",
            kind_step=None,
        )
    )
    return steps


def _in_order(kind: Kind) -> list[tuple[int, Phase, StepModel]]:
    """Steps with their places in the kind: what is looked at by the target's own programs waits
    until a person had them installed.
    """
    steps = [(index, phase, step) for index, (phase, step) in enumerate(kind.steps())]
    last = max(
        (index for index, phase, step in steps if phase == "prepare" and step.do == "gate"),
        default=-1,
    )
    early = [one for one in steps[: last + 1] if one[2].do == "validate"]
    return [*(one for one in steps[: last + 1] if one not in early), *early, *steps[last + 1 :]]


def undo_anew(kind: Kind, head: Head, sheet: Sheet) -> list[SheetStep]:
    """What undoes the steps of a sheet by the kind as it is now: it was corrected since. What was
    undone stays so.
    """
    planned = _undo_steps(kind, head, sheet.fresh_census, sheet.steps, sheet.settings)
    before = {(step.undoes, step.title): step for step in sheet.undo if step.state == "done"}
    return [before.get((step.undoes, step.title), step) for step in planned]


def _undo_steps(
    kind: Kind, head: Head, target: Census, steps: list[SheetStep], settings: Mapping[str, str]
) -> list[SheetStep]:
    """What would undo the steps of the sheet, the last of them first."""
    found = []
    for index, step in enumerate(kind.undo_steps()):
        for undone in steps:
            if undone.kind_step is not None and undone.title == step.undoes:
                names = names_for(kind, step, head, target)
                if step.each is None or names:
                    planned = _sheet_step(0, "undo", index, step, names, settings)
                    found.append(planned.model_copy(update={"undoes": undone.number}))
    found.sort(key=lambda step: -(step.undoes or 0))
    return [
        step.model_copy(update={"number": len(steps) + place})
        for place, step in enumerate(found, 1)
    ]


def _sheet_step(
    number: int,
    phase: Phase,
    index: int,
    step: StepModel,
    names: list[str],
    settings: Mapping[str, str],
) -> SheetStep:
    return SheetStep(
        number=number,
        phase=phase,
        title=step.title,
        do=step.do,
        kind_step=index,
        names=names,
        commands=_commands(step, names, settings),
        restarts=step.restarts,
        undone=step.undone,
        repeat=step.repeat,
    )


def names_for(kind: Kind, step: StepModel, head: Head, target: Census) -> list[str]:
    """What a step repeats over. What only the target has is not known where the backup never
    counted the list.
    """
    if step.each is None:
        return []
    if step.each.names == "extra" and step.each.list not in proving.counted_lists(kind, head):
        return []
    backup = head.census
    ours, theirs = backup.get(step.each.list, []), target.get(step.each.list, [])
    if step.each.names == "all":
        return list(ours)
    if step.each.names == "missing":
        return [name for name in ours if name not in theirs]
    return [name for name in theirs if name not in ours]


def commands_of(step: StepModel, names: list[str], settings: Mapping[str, str]) -> list[list[str]]:
    """The commands of a step as lists of words, one for each name it repeats over."""
    if step.run is None:
        return []
    if step.do == "validate":
        settings = {"scratch": SCRATCH, **settings}
    if step.each is None:
        return [command(step.run, settings)]
    return [command(step.run, {**settings, "name": name}, told=("name",)) for name in names]


def _commands(step: StepModel, names: list[str], settings: Mapping[str, str]) -> list[str]:
    shown = [shlex.join(words) for words in commands_of(step, names, settings)]
    if step.do == "command" and step.document is not None:
        fed = [
            step.document if step.each is None else step.document.replace("{name}", name)
            for name in names or [""]
        ]
        shown = [f"{line}  < {document}" for line, document in zip(shown, fed, strict=True)]
    if step.request is not None:
        body = (
            "" if step.request.json_body is None else f" {_json(step.request.json_body, settings)}"
        )
        shown.append(f"{step.request.method} {filled(step.request.path, settings)}{body}")
    if step.ask is not None:
        shown.append(step.ask.replace("{names}", some(names)))
    return shown


def _json(body: Any, settings: Mapping[str, str]) -> str:
    return json.dumps(filled_json(body, settings), ensure_ascii=False)


def left_out_essentials(kind: Kind, parts: list[str]) -> set[str]:
    """Essential parts that are not chosen: then the target does not become the system."""
    return {part.name for part in kind.part if part.essential and not part.handed_in} - set(parts)


def _after(kind: Kind, source: RestoreSource, target: Target, parts: list[str]) -> After:
    """Where the machine will answer: what the kind says is taken from the backup, if the backup
    tells it.
    """
    rejoin = next((step for _, step in kind.steps() if step.do == "rejoin"), None)
    expected = source.head.expected
    partial = left_out_essentials(kind, parts)
    login: Literal["target", "system"] = "target"
    address, account, key = target.place.address, target.place.account, target.place.key
    because = dict.fromkeys(("address", "account", "key"), "the restore does not change it")
    if rejoin is not None and not partial:
        if rejoin.address == "backup" and "address" in expected:
            address, because["address"] = expected["address"], "the backup's configuration sets it"
        if rejoin.account == "backup":
            account, login = expected.get("account", source.login_account), "system"
            because["account"] = "the backup's accounts replace those of the target"
        if rejoin.key == "backup" and "key" in expected:
            key, because["key"] = expected["key"], "the backup's own key is put back"
    elif partial:
        because = dict.fromkeys(because, f"the part {sorted(partial)[0]} is not restored")
    return After(
        place=Place(address=address, account=account, key=key),
        login=login,
        address_because=because["address"],
        account_because=because["account"],
        key_because=because["key"],
    )
