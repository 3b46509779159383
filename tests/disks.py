"""What lies on a machine's disk, read from the disk itself."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from saltmere.linux import LinuxServer

State = dict[str, tuple[int, int, int, bytes]]


def tree(machine: LinuxServer) -> State:
    """What is on the machine, read from its disk: mode, owner, group and content by path."""
    return dict(_tree(machine.folder))


def _tree(root: Path) -> Iterator[tuple[str, tuple[int, int, int, bytes]]]:
    for top in ("etc", "root", "srv", "local"):
        for path in sorted((root / top).rglob("*")):
            told = path.lstat()
            if path.is_symlink():
                content = os.fsencode(path.readlink())
            else:
                content = path.read_bytes() if path.is_file() else b"a folder"
            mode = stat.S_IMODE(told.st_mode)
            yield str(path.relative_to(root)), (mode, told.st_uid, told.st_gid, content)


def differing(before: State, after: State) -> set[str]:
    return {path for path in before.keys() | after.keys() if before.get(path) != after.get(path)}
