from __future__ import annotations

import os
from pathlib import Path

import pytest

from fennox.core.errors import BadInput, Damaged, NoRoom, StoreUnusable
from fennox.core.names import object_name
from fennox.stores.base import Store
from fennox.stores.folder import FolderStore
from fennox.testing.stores import StoreSuite


class TestFolderStore(StoreSuite):
    @pytest.fixture
    def store(self, store_folder: Path) -> Store:
        return FolderStore(store_folder)

    async def put_behind_its_back(self, store: Store, name: str, data: bytes) -> None:
        path = Path(store.address, name)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)

    async def get_behind_its_back(self, store: Store, name: str) -> bytes:
        return Path(store.address, name).read_bytes()

    async def test_a_folder_that_is_gone_is_not_made_anew(self, tmp_path: Path) -> None:
        store = FolderStore(tmp_path / "gone")
        with pytest.raises(StoreUnusable, match="not there"):
            await store.put(object_name("header/x"), b"x")
        with pytest.raises(StoreUnusable, match="not there"):
            _ = [found async for found in store.list("")]
        assert not (tmp_path / "gone").exists()

    async def test_nothing_unfinished_is_left_behind(
        self, store: Store, store_folder: Path
    ) -> None:
        await store.put(object_name("header/x"), b"x")
        assert [path.name for path in (store_folder / "header").iterdir()] == ["x"]

    @pytest.mark.skipif(
        not Path("/dev/full").exists(),
        reason="SKIPPED: no /dev/full here, so a full disk is not proved",
    )
    async def test_a_full_disk_says_so_and_leaves_nothing(
        self, store: Store, store_folder: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        def full(handle: int) -> None:
            os.write(os.open("/dev/full", os.O_WRONLY), b"x")  # the kernel's own ENOSPC

        monkeypatch.setattr("fennox.stores.folder.os.fsync", full)
        with pytest.raises(NoRoom):
            await store.put(object_name("header/x"), b"x")
        assert list((store_folder / "header").iterdir()) == []

    @pytest.mark.skipif(
        not Path("/proc/self/mem").exists(),
        reason="SKIPPED: no /proc/self/mem, so a bad place of the disk is not proved",
    )
    async def test_an_object_at_a_bad_place_of_the_disk_is_damaged(
        self, store: Store, store_folder: Path
    ) -> None:
        """Reading it was tried again and again as if the store were away, and nothing behind it was
        ever read.
        """
        (store_folder / "header").mkdir()
        (store_folder / "header/x").symlink_to(
            "/proc/self/mem"
        )  # reads of its first bytes end with the kernel's EIO
        with pytest.raises(Damaged, match=r"header/x cannot be read: Input/output error\."):
            await store.get(object_name("header/x"))


@pytest.mark.parametrize(
    "name", ["../x", "/etc/passwd", "a//b", "a/./b", "a/..", "", "a\0b", "a/" + "x" * 121, "é"]
)
def test_a_name_that_could_leave_the_store_is_refused(name: str) -> None:
    with pytest.raises(BadInput):
        object_name(name)
