"""Work that needs no service: a store in a folder, and kind files."""

from __future__ import annotations

import argparse
import sys
from importlib.resources import files
from pathlib import Path

from fennox.cli.main import FAILED, Environment
from fennox.cli.output import say
from fennox.core.errors import BadInput
from fennox.core.kinds.loading import mistakes


def rescue(arguments: argparse.Namespace, _environment: Environment) -> int:
    """Runs the same offline reader that lies in every store, so that it is used, and not only kept."""
    import subprocess

    words = [arguments.verb, arguments.store]
    words += [arguments.backup] if hasattr(arguments, "backup") else []
    if hasattr(arguments, "to"):
        words.append(arguments.to)
        for part in arguments.part or []:
            words += ["--part", part]
    if arguments.passphrase_file:
        words += ["--passphrase-file", arguments.passphrase_file]
    reader = str(files("fennox").joinpath("rescue.py"))
    return subprocess.run([sys.executable, reader, *words], check=False).returncode


def check_kind(arguments: argparse.Namespace, _environment: Environment) -> int:
    try:
        text = Path(arguments.file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{arguments.file} cannot be read ({type(error).__name__}).", "Check the file.") from error
    kind, found = mistakes(text)
    for mistake in found:
        print(f"{arguments.file}:{mistake.line}: {mistake.where}: {mistake.text}")
    if kind is None:
        say(f"{len(found)} mistakes.")
        return FAILED
    say(f"{kind.title} version {kind.version}: {len(kind.part)} parts, {len(kind.restore.steps())} steps. No mistake.")
    return 0
