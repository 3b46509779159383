"""Makes a golden store: run once for each version of the format, with a new folder name, and never again for that one.

python -m tests.golden.make tests/golden/store-2
"""

from __future__ import annotations

import asyncio
import sys
from pathlib import Path

from fennox.core.format import notes
from tests.backups import SYSTEM, store_backup
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.two_stores import begin_generation, holding, new_keys, reseal

FIRST = {
    "/etc/hosts": b"127.0.0.1 localhost\n10.9.0.1 quay.saltmere.example\n",
    "/etc/timetable.csv": b"".join(b"%d,Gannet Point,%d\n" % (n, n * 37 % 1440) for n in range(20_000)),
    "/etc/empty": b"",
}
SECOND = {**FIRST, "/etc/hosts": FIRST["/etc/hosts"] + b"10.9.0.2 holm.saltmere.example\n"}


async def make(folder: Path) -> None:
    """Three backups of which the second was sealed anew under a second key generation, and the others were left."""
    keys = new_keys()
    here = await holding(folder, keys, fixed_now)
    vault, index = here.vault, here.index
    first, _ = await store_backup(vault, index, FIRST, name="first")
    vault.now = lambda: fixed_now().replace(day=2)
    backup, _ = await store_backup(vault, index, SECOND, name="second", sequence=2)
    vault.now = lambda: fixed_now().replace(day=3)
    apart, _ = await store_backup(vault, index, SECOND, name="apart", sequence=3, apart=True)
    note = notes.Note(
        fact="hold", backup=backup, system=SYSTEM, time="20260302T130000Z", by="harbour-admin", reason="before the move"
    )
    record = await vault.find_record(backup)
    await vault.write_note(note, record.reference)
    vault.now = fixed_now
    newer, slot = await begin_generation(vault, keys, PASSPHRASE)
    await reseal(newer, slot, without=[first, apart])


if __name__ == "__main__":
    asyncio.run(make(Path(sys.argv[1])))
