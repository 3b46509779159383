"""What the test of a store calls its own and what it calls foreign."""

from __future__ import annotations

from pathlib import Path

import pytest

from fennox.engine.backups.vault import README_NAME, RESCUE_NAME, RESERVE_NAME
from fennox.service.stores import store_test
from fennox.stores.folder import FolderStore
from tests.conftest import NOON


@pytest.mark.parametrize("foreign", [[], ["older"]])
async def test_what_every_store_may_hold_is_not_called_foreign(
    tmp_path: Path, foreign: list[str]
) -> None:
    """Anchors of other stores and the reserve were."""
    for folder in ("header", "systems", "packs", "sweep", "anchors", *foreign):
        (tmp_path / folder).mkdir()
    for name in (README_NAME, RESCUE_NAME, RESERVE_NAME):
        (tmp_path / name).write_bytes(b"x")
    store = FolderStore(tmp_path)
    tested = await store_test.test(store, store, NOON)
    [listed] = [check for check in tested.checks if check.title == "List what is there"]
    told = f"not from Fennox: {', '.join(foreign)}" if foreign else "nothing else"
    assert listed.detail.endswith(told)
