"""What a run sheet is planned from, and what of the target it overwrites."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import blake2b

from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Finding, Head, Machine
from fennox.core.kinds.model import Kind
from fennox.core.places.placed import Placed
from fennox.core.restoring.replicating import ReplicaPlan
from fennox.core.restoring.sheet import Overwrites, Place

_SHOWN = 200  # names listed at most


@dataclass(frozen=True)
class Target:
    """The target before the restore; documents by part as path → digest."""

    machine: Machine
    place: Place
    documents: Mapping[str, Mapping[str, str]]
    census: Census
    room: int | None = None  # free bytes in the folder named by the kind
    # parts that could not be read, with the reasons
    unread: Mapping[str, str] = field(default_factory=dict)
    # of documents that hold values of the place, by part and path; of what tells which exist
    places: Mapping[tuple[str, str], bytes | bytearray] = field(default_factory=dict)
    real: Mapping[str, bytes | bytearray] = field(default_factory=dict)


@dataclass(frozen=True)
class RestoreSource:
    """The backup as planning needs it. ``head``, ``documents``: as they will be written, with the
    values of the place in ``placed``; ``sizes``: of those documents, in bytes. ``standing``:
    findings about it, such as doubtful, expired, damaged. ``offered_at``: placeholders of steps
    that offer something, as far as they are known.
    """

    backup: str
    system: str
    system_name: str
    head: Head
    documents: Mapping[str, Mapping[str, str]]
    login_account: str
    sizes: Mapping[str, Mapping[str, int]] = field(default_factory=dict)
    address: str = ""  # present address of the system
    machine: str = ""  # id of the system's present machine; empty: unknown
    key: str = ""  # its accepted key
    taken: datetime | None = None
    standing: list[Finding] = field(default_factory=list)
    placed: Placed = field(default_factory=Placed)
    offered_at: Mapping[str, str] = field(default_factory=dict)
    replica: ReplicaPlan | None = None


def written_parts(kind: Kind, parts: list[str]) -> list[str]:
    """Chosen parts that a restore writes to the target as documents."""
    writing = {
        name
        for _, step in kind.steps()
        if step.do in ("write", "upload", "offer")
        for name in step.parts
    }
    return [part for part in parts if part in writing]


def sent_parts(kind: Kind, parts: list[str]) -> list[str]:
    """As :func:`written_parts`, and those whose documents are fed to a command of the target."""
    fed = {name for step in kind.steps_that_feed() for name in step.parts}
    written = written_parts(kind, parts)
    return [part for part in parts if part in fed or part in written]


def left_out_essentials(kind: Kind, parts: list[str]) -> set[str]:
    """Essential parts that are not chosen: such a target is not the whole system."""
    return {part.name for part in kind.part if part.essential and not part.comes_by_itself} - set(
        parts
    )


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
