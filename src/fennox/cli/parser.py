"""The command line as data: every noun, verb and option. Imports nothing heavy, so that it starts
quickly.
"""

from __future__ import annotations

import argparse
import importlib

from fennox.cli.words.shared import EPILOG

NOUNS = {
    "serve": "service",
    "worker": "service",
    "rebuild": "service",
    "sign-in": "service",
    "sign-out": "service",
    "status": "status",
    "doctor": "service",
    "service-key": "service",
    "concern": "estate",
    "alert": "estate",
    "trace": "estate",
    "recovery-sheet": "estate",
    "own-state": "estate",
    "kind": "estate",
    "user": "people",
    "session": "people",
    "token": "people",
    "approval": "people",
    "audit": "people",
    "run": "estate",
    "store": "stores",
    "passphrase": "stores",
    "login": "stores",
    "drop": "drops",
    "system": "systems",
    "backup": "backups",
    "routine": "routines",
    "restore": "restores",
    "deployment": "restores",
    "rescue": "rescue",
}
"""Every noun, and the module of ``words`` that defines it."""


def build(first: str = "") -> argparse.ArgumentParser:
    """Everything; or, where the ``first`` word of a command names a noun, only the module that it
    is defined in.
    """
    parser = argparse.ArgumentParser(
        prog="fennox",
        description=(
            "Keeps the configuration of systems safe, puts it back, and proves that everything is"
            " there again."
        ),
        epilog=EPILOG,
    )
    parser.add_argument("--version", action="store_true", help="print the version")
    parser.add_argument(
        "--completion",
        choices=["bash", "zsh", "tcsh"],
        help="print a completion script for a shell",
    )
    nouns = parser.add_subparsers(dest="noun", metavar="NOUN", title="nouns")
    for module in [NOUNS[first]] if first in NOUNS else dict.fromkeys(NOUNS.values()):
        importlib.import_module(f"fennox.cli.words.{module}").define(nouns)
    return parser
