"""Files a machine writes on its own schedule. A file is finished when it is old enough and its size
no longer changes.
"""

from __future__ import annotations

import os

from fennox.core.errors import FarSideFailed
from fennox.links.base import Shell

_PAUSE = 2  # seconds between the two size checks
_SCRIPT = (  # GNU findutils
    'pause=$1; shift; date +%s && find "$@" -type f -printf "%s %T@ %p\\0" && printf "\\0" && sleep'
    ' "$pause" && find "$@" -type f -printf "%s %T@ %p\\0"'
)


async def unsettled(shell: Shell, roots: list[str], seconds: int) -> set[str]:
    """Paths below ``roots`` that were written within ``seconds``, by the machine's clock, or are
    still growing.
    """
    done = await shell.run(["sh", "-c", _SCRIPT, "sh", str(_PAUSE), *roots], limit=600)
    head, _, rest = done.output.partition(b"\n")
    first, between, second = (
        rest.partition(b"\0\0") if b"\0\0" in rest else (b"", rest[:1], rest[1:])
    )
    if not head.strip().isdigit() or not between:
        raise FarSideFailed(
            f"The files below {', '.join(roots)} cannot be checked: {done.errors[:300]}",
            "Check what the login may read.",
        )
    before, after = _sizes(first), _sizes(second)
    limit = int(head) - seconds
    return {
        os.fsdecode(path)
        for path, (size, written) in after.items()
        if written > limit or before.get(path, (size, 0))[0] != size
    }


def _sizes(listing: bytes) -> dict[bytes, tuple[int, float]]:
    found = {}
    for line in listing.split(b"\0"):
        if line:
            size, written, path = line.split(b" ", 2)
            found[path] = (int(size), float(written))
    return found
