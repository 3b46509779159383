"""What has changed since a sheet was drafted."""

from __future__ import annotations

from collections.abc import Mapping
from hashlib import blake2b

from fennox.core.format.manifest import Finding
from fennox.core.kinds.expressions import fitting
from fennox.core.kinds.model import Kind
from fennox.core.names import printable
from fennox.core.restoring.plan_inputs import (
    Target,
)
from fennox.core.restoring.sheet import Facts, Overwrites, Sheet
from fennox.core.words import first_few


def facts(kind: Kind, backup: str, target: Target, overwrites: Overwrites) -> Facts:
    return Facts(
        backup=backup,
        kind=f"{kind.name} version {kind.version}",
        target_machine=target.machine.id,
        target_version=f"{target.machine.product} {target.machine.version}",
        target_address=target.place.address,
        target_key=target.place.key,
        overwrites=overwrites.digest,
        places=_places(kind, target),
    )


def _places(kind: Kind, target: Target) -> str:
    """A digest of the target's documents that hold values of the place; empty: there are none."""
    fits = fitting([pattern for rule in kind.place for pattern in rule.in_])
    running = blake2b(digest_size=16)
    found = [
        f"{part}\0{path}\0{digest}\0"
        for part, documents in sorted(target.documents.items())
        for path, digest in sorted(documents.items())
        if fits(path)
    ]
    for one in found:
        running.update(one.encode("utf-8", "surrogatepass"))
    return running.hexdigest() if found else ""


def changed_facts(then: Sheet, now: Sheet) -> list[str]:
    """As sentences, only what changed since a person agreed."""
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
    if then.facts.places and then.facts.places != now.facts.places:
        found.append(
            "documents of the target that hold values of the place have changed; what was chosen"
            " from them stays as this sheet shows it"
        )
    return found


def _otherwise(then: Sheet, now: Sheet) -> str:
    """The changed documents, as far as both sheets name them."""
    before, after = then.overwrites, now.overwrites
    told = []
    for title, ours, theirs in (
        ("overwritten as well", after.changed, before.changed),
        ("overwritten no more", before.changed, after.changed),
        ("added as well", after.added, before.added),
        ("added no more", before.added, after.added),
    ):
        if names := [name for name in ours if name not in theirs]:
            told.append(f"{title}: {first_few([printable(name) for name in names], 8)}")
    return f" ({'; '.join(told)})" if told else ""


def changed_settings(then: Mapping[str, str], now: Mapping[str, str]) -> list[str]:
    """As sentences, each setting of the system that has changed."""
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
