"""Installs packages on one of the estate's servers, by name, as its administrator would with the
package manager.

python -m saltmere.install SERVER-FOLDER PACKAGE …
"""

from __future__ import annotations

import argparse
import re
import sys
from pathlib import Path

from saltmere.linux import LinuxServer


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("folder", type=Path)
    parser.add_argument("package", nargs="+")
    arguments = parser.parse_args()
    server = LinuxServer(arguments.folder, "", 0)
    if not server.installed:
        sys.exit(f"{arguments.folder} is no server of the estate.")
    known = re.findall(r"(?m)^Package: (.+)$", server.read("/var/lib/dpkg/status"))
    server.set_packages(tuple({*known, *(name.strip(",") for name in arguments.package)}))
    print(f"{len(arguments.package)} packages installed.")


if __name__ == "__main__":
    main()
