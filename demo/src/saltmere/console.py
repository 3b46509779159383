"""Runs a command at the console of one of the estate's servers, as somebody who stands before it.

python -m saltmere.console SERVER-FOLDER COMMAND WORD …
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path


def inside(folder: Path) -> int | None:
    """The process id of the running server's own PID 1; None: it does not run."""
    root = str(folder.resolve())
    for told in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            words = told.read_bytes().split(b"\0")
            if words[0] != b"unshare" or root.encode() not in words:
                continue
            task = told.parent / "task" / told.parent.name / "children"
            return int(task.read_text().split()[0])
        except (OSError, IndexError):  # it has just ended
            continue
    return None


def entering(pid: int, words: Sequence[str]) -> list[str]:
    """The command that runs these words inside the server of this PID 1."""
    own_user = [] if os.getuid() == 0 else ["-U", "--preserve-credentials"]
    return ["nsenter", "-t", str(pid), *own_user, "-m", "-p", "-r", "-w", *words]


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("folder", type=Path)
    parser.add_argument("command", nargs=argparse.REMAINDER)
    given = parser.parse_args()
    found = inside(given.folder)
    if found is None or not given.command:
        sys.exit(f"{given.folder} is no running server, or there is no command.")
    sys.exit(subprocess.run(entering(found, given.command), check=False).returncode)


if __name__ == "__main__":
    main()
