"""Stores written by earlier versions stay readable for ever: by the engine and by today's offline reader."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from fennox.core.format import notes
from fennox.core.format.digest import blake2b_256
from fennox.engine import vault as vaults
from fennox.stores.folder import FolderStore
from tests.backups import all_backups, read_back
from tests.conftest import PASSPHRASE, fixed_now
from tests.engine.test_rescue import DEBIAN_PYTHON
from tests.golden.make import FIRST, SECOND

STORES = sorted(path for path in Path(__file__).parent.glob("store-*") if path.is_dir())


def test_there_are_golden_stores() -> None:
    assert STORES


@pytest.mark.parametrize("folder", STORES, ids=lambda folder: folder.name)
async def test_a_golden_store_opens_to_the_same_content(folder: Path) -> None:
    vault = await vaults.open_with_passphrase(FolderStore(folder), PASSPHRASE, fixed_now)
    first, second, apart = await all_backups(vault)
    assert await read_back(vault, first) == FIRST
    assert await read_back(vault, second) == SECOND
    assert await read_back(vault, apart) == SECOND
    standing = notes.merge(await vault.read_notes("web-9-5e5e5e5e"))
    assert (standing.held, standing.held_because) == (True, "before the move")


@pytest.mark.parametrize("reader", ["then", "now"])
@pytest.mark.parametrize("folder", STORES, ids=lambda folder: folder.name)
def test_a_golden_store_is_checked_by_the_reader_of_its_day_and_of_today(
    folder: Path, reader: str, tmp_path: Path
) -> None:
    phrase = tmp_path / "phrase"
    phrase.write_text(PASSPHRASE)
    script = folder / "rescue.py" if reader == "then" else Path(vaults.__file__).parent.parent / "rescue.py"
    done = subprocess.run(
        [DEBIAN_PYTHON, "-I", str(script), "check", str(folder), "--passphrase-file", str(phrase)],
        capture_output=True,
        text=True,
        check=False,
    )
    assert (done.returncode, "3 backups with 9 documents" in done.stderr) == (0, True), done.stderr


@pytest.mark.parametrize("folder", STORES, ids=lambda folder: folder.name)
def test_a_golden_store_is_read_by_a_reader_that_was_written_from_the_page(folder: Path) -> None:
    reader = Path(__file__).parents[1] / "core/second_reader.mjs"
    words = ["node", str(reader), "store", str(folder), PASSPHRASE]
    told = json.loads(subprocess.run(words, check=True, capture_output=True, text=True).stdout)
    first, second = [{path: blake2b_256(data) for path, data in made.items()} for made in (FIRST, SECOND)]
    assert told == {"first": first, "second": second, "apart": second}
