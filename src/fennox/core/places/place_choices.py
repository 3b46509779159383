"""Whose value is written: the backup's, the target's, or a new one. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import assert_never

from fennox.core.errors import BadInput
from fennox.core.format.manifest import Finding
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import Evidence, fitting
from fennox.core.kinds.rules import PlaceRule
from fennox.core.names import printable
from fennox.core.places.place_rewriting import Located, PlaceUnreadable, located, rewritten
from fennox.core.places.placed import PlaceChoice, PlaceEntry, PlaceValue
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.regexes import compiled
from fennox.core.words import first_few

_SHOWN = 6  # values of a whole document that are shown


@dataclass(frozen=True)
class PlaceInputs:
    """``backup`` and ``target``: contents of documents that rules name, by part and path.
    ``real``: of the target, contents that say what exists there. ``given``: a person's choices, by
    the name of a rule, or ``name[key]`` for one of several values.
    """

    rules: list[PlaceRule]
    purpose: RestorePurpose
    same_machine: bool
    new_name: str | None
    given: Mapping[str, str]
    backup: Mapping[tuple[str, str], bytes]
    target: Mapping[tuple[str, str], bytes]
    real: Mapping[str, bytes] = field(default_factory=dict)


@dataclass
class PlaceDecisions:
    values: list[PlaceValue] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


def decide(inputs: PlaceInputs) -> PlaceDecisions:
    """Every value of the place, with a choice for each, and what must be known of them."""
    decided = PlaceDecisions()
    for rule in inputs.rules:
        entries = _entries(rule, inputs, decided.findings)
        if entries:
            value = _decided(rule, inputs, entries, decided.findings)
            decided.values.append(value)
            if not rule.whole and rule.rows is None:
                decided.findings += _not_read_back(rule, inputs, value.entries)
    decided.findings += _unknown(inputs, decided.values)
    return decided


def _entries(rule: PlaceRule, inputs: PlaceInputs, findings: list[Finding]) -> list[PlaceEntry]:
    fits = fitting(rule.in_)
    at = sorted(one for one in {*inputs.backup, *inputs.target} if fits(one[1]))
    entries = []
    for part, path in at:
        ours, theirs = inputs.backup.get((part, path)), inputs.target.get((part, path))
        if rule.whole:
            entries.append(
                PlaceEntry(
                    part=part,
                    document=path,
                    key=path,
                    backup=_shown(rule, ours),
                    target=_shown(rule, theirs),
                    after=None,
                )
            )
        else:
            entries += _values(rule, part, path, ours, theirs, findings)
    return entries


def _shown(rule: PlaceRule, content: bytes | None) -> str | None:
    """What of a whole document is shown."""
    if content is None:
        return None
    text = content.decode("utf-8", "replace")
    found = [value for pattern in rule.shown for value in compiled(pattern).drawn(text)]
    lines = sum(bool(line.strip()) for line in text.splitlines())
    return printable(first_few(found, _SHOWN)) if found else f"{lines} lines"


def _values(
    rule: PlaceRule,
    part: str,
    path: str,
    ours: bytes | None,
    theirs: bytes | None,
    findings: list[Finding],
) -> Iterator[PlaceEntry]:
    if ours is None:
        return  # nothing is written there
    before = _located(rule, path, ours, "backup", findings)
    now = _located(rule, path, theirs, "target", findings) if theirs is not None else []
    there = {one.key: one for one in now}
    for one in before:
        other = there.pop(one.key, None)
        yield PlaceEntry(
            part=part,
            document=path,
            key=one.key,
            backup=one.value,
            target=other.value if other is not None else None,
            after=one.value,
        )
    if rule.rows is not None:
        for one in there.values():
            yield PlaceEntry(
                part=part,
                document=path,
                key=one.key,
                backup=None,
                target=one.value,
                after=None,
                row=one.row,
            )


def _located(
    rule: PlaceRule, path: str, content: bytes, side: str, findings: list[Finding]
) -> list[Located]:
    try:
        return located(rule, content)
    except PlaceUnreadable as error:
        findings.append(
            Finding(
                severity="warning",
                code="place-unreadable",
                subject=f"{rule.name} {path} {side}",
                text=f"{rule.title} cannot be read in {printable(path)} of the {side}: {error}.",
                remedy="The backup's is written. Check it afterwards.",
            )
        )
        return []


def _decided(
    rule: PlaceRule, inputs: PlaceInputs, entries: list[PlaceEntry], findings: list[Finding]
) -> PlaceValue:
    said = inputs.given.get(rule.name)
    choice, value = _choice(said) if said is not None else _default(rule, inputs, entries)
    value = value.strip() if value is not None else None
    if said is not None and choice == "given" and (rule.whole or len(entries) > 1):
        findings.append(_many(rule, entries))
        choice, value = "backup", None
    if choice == "target" and not rule.whole and all(one.target is None for one in entries):
        findings.append(_lacking(rule))
        if rule.rows is None:
            choice = "backup"
    decided = []
    for entry in entries:
        keyed = inputs.given.get(_keyed(rule.name, entry))
        one, new = _choice(keyed) if keyed is not None else (choice, value)
        decided.append(entry.model_copy(update={"after": _after(rule, entry, one, new)}))
    if not rule.whole:
        left = [one for one in decided if one.backup is not None and one.after is None]
        findings += _left_out(rule, left)
    chosen = said is not None or any(_keyed(rule.name, one) in inputs.given for one in entries)
    return PlaceValue(
        name=rule.name,
        title=rule.title,
        of=rule.of,
        choice=choice,
        chosen=chosen,
        whole=rule.whole,
        entries=decided,
    )


def _keyed(name: str, entry: PlaceEntry) -> str:
    return f"{name}[{entry.key or '1'}]"


def _choice(said: str) -> tuple[PlaceChoice, str | None]:
    if said == "backup":
        return "backup", None
    if said == "target":
        return "target", None
    return "given", said


def _default(
    rule: PlaceRule, inputs: PlaceInputs, entries: list[PlaceEntry]
) -> tuple[PlaceChoice, str | None]:
    """By what the value belongs to, and by the purpose of the restore."""
    purpose = inputs.purpose
    if purpose == "return":  # what the machine had belongs to it
        return "backup", None
    match rule.of:
        case "hardware":
            kept = purpose == "repair" and _exists(rule, inputs, entries)
            return ("backup", None) if kept else ("target", None)
        case "network":
            return ("backup", None) if purpose == "repair" else ("target", None)
        case "name":
            if purpose == "seed" and rule.seeded and inputs.new_name is not None:
                return "given", inputs.new_name
            return "backup", None
        case "licence" | "account":  # two at once would be one too many
            return ("backup" if purpose in ("repair", "replace") else "target"), None
        case _:
            assert_never(rule.of)


def _exists(rule: PlaceRule, inputs: PlaceInputs, entries: list[PlaceEntry]) -> bool:
    """Whether what the backup names is there on the target, as far as the target tells."""
    evidence = Evidence(contents=dict(inputs.real), paths=set(inputs.real))
    real = {value for one in rule.real for value in expressions.values(one, evidence)}
    if not real:
        return inputs.same_machine
    named = {one.backup.split(" ")[0] for one in entries if one.backup is not None}
    return named <= real


def _after(rule: PlaceRule, entry: PlaceEntry, choice: PlaceChoice, new: str | None) -> str | None:
    match choice:
        case "backup":
            return entry.backup
        case "target":
            plain = rule.rows is None and not rule.whole
            return entry.backup if plain and entry.target is None else entry.target
        case "given":
            return new
        case _:
            assert_never(choice)


def _unknown(inputs: PlaceInputs, values: list[PlaceValue]) -> Iterator[Finding]:
    """Choices for what neither backup nor target has."""
    keys = {value.name for value in values}
    keys |= {_keyed(value.name, entry) for value in values for entry in value.entries}
    for name in sorted(set(inputs.given) - keys):
        yield Finding(
            severity="blocker",
            code="place-unknown",
            subject=name,
            text=f"--place {name}: neither the backup nor the target has such a value.",
            remedy=f"They have: {first_few(sorted(keys), 8) if keys else 'none'}.",
        )


def _not_read_back(
    rule: PlaceRule, inputs: PlaceInputs, entries: list[PlaceEntry]
) -> Iterator[Finding]:
    """New values that the rule reads otherwise once they are written, as a name with a blank."""
    for entry in entries:
        ours = inputs.backup.get((entry.part, entry.document))
        if ours is None or entry.after is None or entry.after in (entry.backup, entry.target):
            continue
        try:
            written = rewritten(rule, ours, {entry.key: entry.after}, [])
            read = {one.key: one.value for one in located(rule, written)}.get(entry.key)
        except PlaceUnreadable:
            read = None
        if read != entry.after:
            yield Finding(
                severity="blocker",
                code="place-unfitting",
                subject=_keyed(rule.name, entry),
                text=f"--place {rule.name}: {printable(entry.after)} cannot stand in"
                f" {printable(entry.document)}; it would be read as"
                f" {printable(read or 'nothing')}.",
                remedy="Give a value of the same form as the backup's.",
            )


def _many(rule: PlaceRule, entries: list[PlaceEntry]) -> Finding:
    keys = [entry.key or "1" for entry in entries]
    remedy = (
        "Choose backup or target for it."
        if rule.whole
        else f"Name one: --place '{rule.name}[KEY]=VALUE'. The keys are {first_few(keys, 8)}."
    )
    return Finding(
        severity="blocker",
        code="place-many",
        subject=rule.name,
        text=f"--place {rule.name}: one value cannot stand for {len(entries)}.",
        remedy=remedy,
    )


def _lacking(rule: PlaceRule) -> Finding:
    kept = "" if rule.rows is not None else " The backup's is written."
    return Finding(
        severity="warning",
        code="place-lacking",
        subject=rule.name,
        text=f"{rule.title}: the target has none.{kept}",
        remedy=f"Choose a value with --place {rule.name}=…",
    )


def _left_out(rule: PlaceRule, entries: list[PlaceEntry]) -> Iterable[Finding]:
    if not entries:
        return []
    named = [f"{entry.key} ({entry.backup})" for entry in entries]
    return [
        Finding(
            severity="warning",
            code="place-left-out",
            subject=rule.name,
            text=f"{rule.title}: the target has no {first_few(named, 6)}; left out, as a comment.",
            remedy=f"Add them by hand, or choose: --place '{_keyed(rule.name, entries[0])}=VALUE'.",
        )
    ]


def rewrite(rules: list[PlaceRule], entries: list[tuple[str, PlaceEntry]], content: bytes) -> bytes:
    """A document with all its values of the place written. ``entries``: with the names of their
    rules. Raises ``BadInput`` for a value that cannot be written so.
    """
    for rule in rules:
        mine = [entry for name, entry in entries if name == rule.name]
        if mine:
            after = {entry.key: entry.after for entry in mine if entry.backup is not None}
            added = [
                entry.row for entry in mine if entry.row is not None and entry.after is not None
            ]
            try:
                content = rewritten(rule, content, after, added)
            except PlaceUnreadable as error:
                raise BadInput(
                    f"{rule.title} cannot be written into {printable(mine[0].document)}: {error}.",
                    f"Choose another value: --place {rule.name}=…",
                    field="place",
                ) from error
    return content
