"""Stores written by earlier versions stay readable for ever: by the engine and by today's offline
reader.
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from fennox import rescue
from fennox.core.format import notes
from fennox.core.format.manifest import Document
from fennox.core.format.primitives.digest import blake2b_256
from fennox.engine.backups import opened_store
from fennox.engine.backups import vault as vaults
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.stores.folder import FolderStore
from tests.backups import all_backups, read_back
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.rescue.test_rescue import DEBIAN_PYTHON
from tests.golden.make import FIRST, ODD, SECOND

EARLY = ("store-1", "store-2")  # before 2026-12
STORES = sorted(path for path in Path(__file__).parent.glob("store-*") if path.is_dir())


def test_there_are_golden_stores() -> None:
    assert STORES


@pytest.mark.parametrize("folder", STORES, ids=lambda folder: folder.name)
async def test_a_golden_store_opens_to_the_same_content(folder: Path) -> None:
    vault = await opened_store.open_with_passphrase(FolderStore(folder), PASSPHRASE, fixed_now)
    first, second, apart, *odd = await all_backups(vault)
    assert await read_back(vault, first) == FIRST
    assert await read_back(vault, second) == SECOND
    assert await read_back(vault, apart) == SECOND
    standing = notes.merge(await vault.read_notes("web-9-5e5e5e5e"))
    assert (standing.held, standing.held_because) == (True, "before the move")
    assert len(odd) == (folder.name not in EARLY)
    for backup in odd:
        assert await documents_of(vault, backup) == ODD
        assert [one.sequence for sweep in await vault.sweep_lists() for one in sweep.removed] == [5]
        [anchors] = await vault.anchors_of("4" * 32)
        assert anchors.systems[0].numbers == [(1, 4)]


async def documents_of(vault: Vault, backup: str) -> list[Document]:
    index = PackIndex()
    await index.refresh(vault)
    reader = BackupReader(vault, index, await vault.find_record(backup))
    return [
        document
        for part in (await reader.head()).parts
        async for document in reader.documents(part)
    ]


@pytest.mark.parametrize("reader", ["then", "now"])
@pytest.mark.parametrize("folder", STORES, ids=lambda folder: folder.name)
def test_a_golden_store_is_checked_by_the_reader_of_its_day_and_of_today(
    folder: Path, reader: str, tmp_path: Path
) -> None:
    phrase = tmp_path / "phrase"
    phrase.write_text(PASSPHRASE)
    script = (
        folder / "rescue.py" if reader == "then" else Path(vaults.__file__).parents[2] / "rescue.py"
    )
    hybrid = b"mlkem" in next((folder / "header").iterdir()).read_bytes()
    python = sys.executable if hybrid else DEBIAN_PYTHON  # Debian 12 has no ML-KEM
    done = subprocess.run(
        [python, "-I", str(script), "check", str(folder), "--passphrase-file", str(phrase)],
        capture_output=True,
        text=True,
        check=False,
    )
    counted = (
        "3 backups with 9 documents" if folder.name in EARLY else "4 backups with 12 documents"
    )
    assert done.returncode == 0, done.stderr
    assert counted in done.stderr, done.stderr


@pytest.mark.parametrize("folder", STORES, ids=lambda folder: folder.name)
def test_a_golden_store_is_read_by_a_reader_that_was_written_from_the_page(folder: Path) -> None:
    reader = Path(__file__).parents[1] / "core/second_reader.mjs"
    words = ["node", str(reader), "store", str(folder), PASSPHRASE]
    told = json.loads(subprocess.run(words, check=True, capture_output=True, text=True).stdout)
    first, second = [
        {path: blake2b_256(data) for path, data in made.items()} for made in (FIRST, SECOND)
    ]
    odd = (
        {}
        if folder.name in EARLY
        else {"odd": {document.path: blake2b_256(b"") for document in ODD}}
    )
    assert told == {"first": first, "second": second, "apart": second, **odd}


def test_a_slot_that_was_not_tried_is_not_called_wrong(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    phrase = tmp_path / "phrase"
    phrase.write_text(PASSPHRASE)
    monkeypatch.setattr(rescue, "MAX_WORK", 1)
    with pytest.raises(SystemExit) as ended:
        rescue.run(["list", str(STORES[0]), "--passphrase-file", str(phrase)])
    told = capsys.readouterr().err
    assert ended.value.code == 1
    assert "Not every slot was tried" in told
    assert "opens none" not in told
