"""Makes a golden store: run once for each version of the format, with a new folder name, and never
again for that one.

python -m tests.golden.make tests/golden/store-2

A store of 2026-12 on has also what came since: a swept backup with its list, raw names, links, an
anchor of another store, slots with commitments; ``hybrid`` behind the folder makes one of the
hybrid suite.
"""

from __future__ import annotations

import asyncio
import base64
import sys
from pathlib import Path

from fennox.core.format import notes
from fennox.core.format.anchors import Anchors, SystemAnchor
from fennox.core.format.manifest import Document
from fennox.core.format.primitives.hpke import CLASSIC, HYBRID, SuiteName
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.journal import MemoryJournal
from fennox.engine.stores.sweep import sweep
from tests.backups import SYSTEM, commit, store_backup
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.two_stores import begin_generation, holding, new_keys, reseal

FIRST = {
    "/etc/hosts": b"127.0.0.1 localhost\n10.9.0.1 quay.saltmere.example\n",
    "/etc/timetable.csv": b"".join(
        b"%d,Gannet Point,%d\n" % (n, n * 37 % 1440) for n in range(20_000)
    ),
    "/etc/empty": b"",
}
SECOND = {**FIRST, "/etc/hosts": FIRST["/etc/hosts"] + b"10.9.0.2 holm.saltmere.example\n"}


ODD = [
    Document(
        path="/srv/caf\\xe9",
        raw_path=base64.b64encode(b"/srv/caf\xe9").decode(),
        type="folder",
        mode=0o750,
    ),
    Document(path="/srv/link", type="link", link="/etc/hosts", modified=1_770_000_001),
    Document(
        path="/srv/raw",
        type="link",
        link="caf\\xe9",
        raw_link=base64.b64encode(b"caf\xe9").decode(),
    ),
]


async def make(folder: Path, suite: SuiteName) -> None:
    """Of three backups the second was sealed anew under a second key generation, and the others
    were left.

    A fourth has what is odd, and a fifth was swept.
    """
    keys = new_keys(suite)
    here = await holding(folder, keys, fixed_now)
    vault, index = here.vault, here.index
    first, _ = await store_backup(vault, index, FIRST, name="first")
    vault.now = lambda: fixed_now().replace(day=2)
    backup, _ = await store_backup(vault, index, SECOND, name="second", sequence=2)
    vault.now = lambda: fixed_now().replace(day=3)
    apart, _ = await store_backup(vault, index, SECOND, name="apart", sequence=3, apart=True)
    note = notes.Note(
        fact="hold",
        backup=backup,
        system=SYSTEM,
        time="20260302T130000Z",
        by="harbour-admin",
        reason="before the move",
    )
    record = await vault.find_record(backup)
    await vault.write_note(note, record.reference)
    vault.now = lambda: fixed_now().replace(day=4)
    odd = await commit(
        BackupWriter(vault, index, await vault.condemned()), ODD, name="odd", sequence=4
    )
    swept, _ = await store_backup(vault, index, {"/etc/gone": b"gone"}, name="swept", sequence=5)
    said = notes.Note(
        fact="doubtful",
        backup=swept,
        system=SYSTEM,
        time="20260304T130000Z",
        by="guard",
        reason="small",
    )
    await vault.write_note(said, (await vault.find_record(swept)).reference)
    at = fixed_now().replace(day=5)
    await sweep(here, {swept: "always 3"}, vault.header.sweeper, at, MemoryJournal())
    anchor = SystemAnchor(
        system=SYSTEM, name="web-9", folder="web-9-5e5e5e5e", numbers=[(1, 4)], notes=1, digest=""
    )
    await vault.write_anchors(
        Anchors(
            store="4" * 32,
            time="20260305T120000Z",
            by=vault.header.sweeper,
            generation=1,
            systems=[anchor],
        )
    )
    vault.now = fixed_now
    newer, slot = await begin_generation(vault, keys, PASSPHRASE)
    await reseal(newer, slot, without=[first, apart, odd])


if __name__ == "__main__":
    asyncio.run(make(Path(sys.argv[1]), HYBRID if sys.argv[2:] == ["hybrid"] else CLASSIC))
