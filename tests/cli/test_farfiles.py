"""A far store is read in place: what is asked of it is counted, by servers that are not ours."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from fennox import rescue
from fennox.cli.local.far_files import FarFiles
from fennox.core.errors import Unreachable
from fennox.engine.backups.pack_index import PackIndex
from fennox.stores.addresses import parse
from fennox.stores.opening import open_store
from tests.backups import store_backup
from tests.conftest import PASSPHRASE, make_vault
from tests.stores import servers
from tests.stores.servers import Place

BACKUPS, DOCUMENT = 12, 3_000_000  # bytes: more than a piece that is fetched at once


@dataclass
class Far:
    """A store on a far side, and the folder it was copied from."""

    place: Place
    local: Path
    phrase: str

    def run(self, *words: str) -> tuple[int, FarFiles]:
        loop = asyncio.new_event_loop()
        store = open_store(parse(self.place.url), self.place.credential, self.place.key)
        files = FarFiles(store, loop)
        try:
            return rescue.run([*words, "--passphrase-file", self.phrase], files), files
        finally:
            loop.run_until_complete(store.close())
            loop.close()


@pytest.fixture(scope="module")
def local(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("local")
    asyncio.run(_fill(folder))
    return folder


async def _fill(folder: Path) -> None:
    vault, index = await make_vault(folder), PackIndex()
    for number in range(1, BACKUPS + 1):
        content = {
            "/etc/big": random.Random(number).randbytes(DOCUMENT),
            "/etc/motd": b"quay %d" % number,
        }
        await store_backup(vault, index, content, name=f"take-{number}", sequence=number)


SFTP_AND_S3 = pytest.mark.parametrize(
    "far", ["sftp", pytest.param("s3", marks=pytest.mark.long)], indirect=True
)


@pytest.fixture(params=["sftp", "s3"])
def far(request: pytest.FixtureRequest, local: Path, tmp_path: Path) -> Iterator[Far]:
    phrase = tmp_path / "phrase"
    phrase.write_text(PASSPHRASE)
    objects = [path for path in local.rglob("*") if path.is_file()]
    if request.param == "sftp":
        (tmp_path / "far").mkdir()
        with servers.openssh(tmp_path / "far") as place:
            for path in objects:
                target = place.folder / path.relative_to(local)
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(path.read_bytes())
            yield Far(place, local, str(phrase))
        return
    with servers.moto() as address:
        place = servers.depot(address, tmp_path)
        bucket = parse(place.url)
        for path in objects:
            key = f"{bucket.path.strip('/')}/{path.relative_to(local)}".lstrip("/")
            servers.bucket_client(place).put_object(
                Bucket=bucket.host, Key=key, Body=path.read_bytes()
            )
        yield Far(place, local, str(phrase))


def small(local: Path) -> int:
    return sum(
        path.is_file()
        for top in ("header", "systems", "sweep")
        for path in (local / top).rglob("*")
    )


def test_a_list_fetches_no_content(far: Far, capsys: pytest.CaptureFixture[str]) -> None:
    code, files = far.run("list", far.place.url)
    assert (code, capsys.readouterr().out.count("take-")) == (0, BACKUPS)
    assert files.requests == small(far.local) + 1, "headers and records once, and the readme"


@SFTP_AND_S3
def test_one_backup_takes_a_few_pieces_of_a_few_packs(
    far: Far, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    code, files = far.run("extract", far.place.url, "take-7", str(tmp_path / "out"))
    assert code == 0, capsys.readouterr().err
    written = (tmp_path / "out/settings/etc/big").read_bytes()
    assert written == random.Random(7).randbytes(DOCUMENT)
    packs = len(list((far.local / "packs").rglob("*.fxp")))
    pieces = files.requests - small(far.local) - 1
    assert pieces <= packs + 6, "the table of each pack, and the pieces that hold the documents"


@SFTP_AND_S3
def test_a_check_finds_the_same_as_in_a_folder(
    far: Far, capsys: pytest.CaptureFixture[str]
) -> None:
    code, _ = far.run("check", far.place.url)
    told = capsys.readouterr().err
    assert rescue.run(["check", str(far.local), "--passphrase-file", far.phrase]) == code
    assert told.splitlines()[-3:] == capsys.readouterr().err.splitlines()[-3:]
    assert "No damage found." in told


@SFTP_AND_S3
def test_a_far_side_that_goes_away_is_no_damage(
    far: Far, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    async def away(self: FarFiles, names: list[str]) -> None:
        raise Unreachable("The far side is gone.", "Try again.")

    monkeypatch.setattr(FarFiles, "_fetch", away)
    with pytest.raises(Unreachable):
        far.run("check", far.place.url)
    assert "DAMAGED" not in capsys.readouterr().err
