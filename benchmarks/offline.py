"""The offline reader in front of a large store: seconds and memory of `list` and `check`, beside a
store of a tenth.

python benchmarks/offline.py [--backups 200000]
"""

from __future__ import annotations

import argparse
import asyncio
import resource
import secrets
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from fennox.core.format import records
from fennox.core.format.manifest import Sealed
from fennox.core.format.primitives.digest import blake2b_256
from fennox.engine.backups.opened_store import rescue_source
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.backups import store_backup
from tests.conftest import PASSPHRASE, make_vault

SYSTEMS = 200
DOCUMENTS = {f"/etc/conf.d/{number}.conf": b"value %d\n" % number * 50 for number in range(120)}


async def filled(folder: Path, backups: int) -> None:
    """Systems that never change: each backup is a record of its own that leads to the same
    content.
    """
    vault = await make_vault(folder)
    first, _ = await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    record = await vault.find_record(first)
    sealed = Sealed(head=record.open(vault.opening_key()).head)
    for number in range(1, backups // SYSTEMS + 1):
        for system in range(SYSTEMS):
            write(vault, folder, record.reference, sealed, system, number)


def write(
    vault: Vault, folder: Path, like: records.Reference, sealed: Sealed, system: int, number: int
) -> None:
    backup = secrets.token_hex(16)
    section = records.seal_section(sealed, vault.header.public(), vault.id, 1, backup)
    name = f"quay-{system}"
    reference = like.model_copy(
        update={
            "backup": backup,
            "run": secrets.token_hex(16),
            "system": f"{system:032x}",
            "system_name": name,
            "folder": f"{name}-{system:08x}",
            "name": "",
            "sequence": number,
            "sealed_digest": blake2b_256(section),
            "time": (
                f"2026{1 + number // 672 % 12:02d}{1 + number // 24 % 28:02d}"
                f"T{number % 24:02d}0000Z"
            ),
        }
    )
    path = folder / records.name(reference, plain_names=True)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(
        records.encode(reference, section, vault.secret, vault.id, secrets.token_bytes(32))
    )


def read(folder: Path, phrase: Path, verb: str) -> tuple[float, float]:
    """Seconds, and MB of the largest process that was needed so far."""
    script = folder.parent / "rescue.py"
    script.write_bytes(rescue_source())
    words = [sys.executable, str(script), verb, str(folder), "--passphrase-file", str(phrase)]
    started = time.monotonic()
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    if done.returncode:
        sys.exit(done.stderr)
    return time.monotonic() - started, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--backups", type=int, default=200_000)
    wanted = parser.parse_args().backups
    with tempfile.TemporaryDirectory() as made:
        phrase = Path(made) / "phrase"
        phrase.write_text(PASSPHRASE)
        took: dict[str, list[float]] = {"list": [], "check": []}
        for count in (wanted // 10, wanted):
            folder = Path(made) / str(count)
            folder.mkdir()
            asyncio.run(filled(folder, count))
            for verb, times in took.items():
                seconds, memory = read(folder, phrase, verb)
                times.append(seconds)
                print(f"{verb:6} {count:8,} backups {seconds:7.1f} s {memory:6.0f} MB")
        for verb, (small, large) in took.items():
            print(f"{verb:6} ten times as many take {large / small:.1f} times as long")


if __name__ == "__main__":
    main()
