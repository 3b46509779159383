"""Identifying a folder's mount, so that a missing share or disk is noticed and its mount point
never filled.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

_BY_UUID = Path("/dev/disk/by-uuid")


@dataclass(frozen=True)
class Mount:
    """One line of ``/proc/self/mountinfo`` (proc_pid_mountinfo(5))."""

    point: str
    type: str
    source: str

    @property
    def identity(self) -> str:
        """The identity of a disk or share: its source or UUID, type and mount point."""
        return f"{self.type} {_lasting(self.source)} at {self.point}"

    def __str__(self) -> str:
        return f"{self.source} ({self.type}) mounted at {self.point}"


def mount_of(folder: Path) -> Mount | None:
    """The mount that holds ``folder``; None if the system does not report it."""
    try:
        lines = (
            Path("/proc/self/mountinfo")
            .read_text(encoding="utf-8", errors="surrogateescape")
            .splitlines()
        )
    except OSError:
        return None
    place = os.path.realpath(folder)
    best: Mount | None = None
    for line in lines:
        before, _, after = line.partition(" - ")
        point = _unescaped(before.split(" ")[4])
        kind, source = after.split(" ")[:2]
        inside = place == point or place.startswith(point.rstrip("/") + "/")
        if inside and (best is None or len(point) >= len(best.point)):
            best = Mount(point, kind, _unescaped(source))
    return best


def _unescaped(text: str) -> str:
    return re.sub(r"\\([0-7]{3})", lambda found: chr(int(found[1], 8)), text)


def _lasting(source: str) -> str:
    """A disk's UUID instead of its present device name."""
    if not source.startswith("/dev/") or not _BY_UUID.is_dir():
        return source
    for link in _BY_UUID.iterdir():
        if os.path.realpath(link) == os.path.realpath(source):
            return f"UUID={link.name}"
    return source
