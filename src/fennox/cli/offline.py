"""Work that needs no service: a store in a folder or on a far side."""

from __future__ import annotations

import argparse
import asyncio
import sys
import tempfile
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

from fennox.cli.access import ask_secret, first_line
from fennox.cli.main import Environment
from fennox.cli.output import say
from fennox.core.words import size

if TYPE_CHECKING:
    from fennox.links.base import Credential


def rescue(arguments: argparse.Namespace, _environment: Environment) -> int:
    """Runs the same offline reader that lies in every store, so that it is used, and not only kept."""
    if "://" in arguments.store:
        with tempfile.TemporaryDirectory(prefix="fennox-rescue-", dir=arguments.work) as folder:
            asyncio.run(_fetch(arguments, Path(folder)))
            return _read(arguments, folder)
    return _read(arguments, arguments.store)


def _read(arguments: argparse.Namespace, folder: str) -> int:
    import subprocess

    words = [arguments.verb, folder]
    words += [arguments.backup] if hasattr(arguments, "backup") else []
    words += ["--names", arguments.names] if getattr(arguments, "names", None) else []
    words += [arguments.pattern] if hasattr(arguments, "pattern") else []
    if hasattr(arguments, "to"):
        words.append(arguments.to)
        words += ["--owners", arguments.owners] if arguments.owners else []
        for part in arguments.part or []:
            words += ["--part", part]
        for pattern in arguments.document or []:
            words += ["--document", pattern]
    if arguments.passphrase_file:
        words += ["--passphrase-file", arguments.passphrase_file]
    reader = str(files("fennox").joinpath("rescue.py"))
    return subprocess.run([sys.executable, reader, *words], check=False).returncode


async def _fetch(arguments: argparse.Namespace, folder: Path) -> None:
    """Bring a whole store here first, since its reader wants files; every object is checked by it afterwards."""
    from fennox.stores import addresses
    from fennox.stores.opening import open_store

    store = open_store(addresses.parse(arguments.store), credential(arguments), arguments.accept_key)
    try:
        listed = [found async for found in store.list("")]
        total, done = sum(found.size for found in listed), 0
        say(f"{await store.landed()}: {len(listed)} objects, {size(total)}.")
        tenth = 0
        for found in listed:
            path = folder / found.name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(await store.get(found.name))
            done += found.size
            if total and done * 10 // total > tenth:
                tenth = done * 10 // total
                say(f"{size(done)} of {size(total)} are here.")
    finally:
        await store.close()


def credential(arguments: argparse.Namespace) -> Credential | None:
    from fennox.links.base import Credential

    if arguments.account is None:
        return None
    if arguments.key:
        return Credential(arguments.account, private_key=Path(arguments.key).read_text(encoding="utf-8"))
    given = arguments.password_file
    return Credential(arguments.account, password=first_line(given) if given else ask_secret("Password there: "))
