"""What a restore does to the target's documents."""

from __future__ import annotations

from hashlib import blake2b

from fennox.core.kinds.model import Kind
from fennox.core.restoring.plan_inputs import (
    RestoreSource,
    Target,
    written_parts,
)
from fennox.core.restoring.sheet import Overwrites

_SHOWN = 200  # names listed at most


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
