"""What a restore offers is read as it was laid out, by nobody else, and not for longer than its
step takes.
"""

from __future__ import annotations

import asyncio
import os
import subprocess
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import datetime, timedelta
from pathlib import Path

import asyncssh
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fennox.core.errors import Damaged
from fennox.drop import sealed_file
from fennox.drop.offers import Offer, Offers
from fennox.drop.refusals import PushRefused
from fennox.drop.spool import Limits
from tests.drop.conftest import SECRET, Served

HOUR = timedelta(hours=1)
EXPORT = os.urandom(700_001)


async def content(data: bytes) -> AsyncIterator[bytes]:
    for start in range(0, len(data), 100_000):
        yield data[start : start + 100_000]


def _bytes(read: bytes | str) -> bytes:
    assert isinstance(read, bytes)
    return read


async def laid_out(offers: Offers, **files: bytes) -> tuple[Offer, str]:
    offer, secret = offers.make("system-1", HOUR)
    for name, data in files.items():
        await offer.add(name.replace("__", "/"), content(data))
    return offer, secret


@asynccontextmanager
async def fetching(served: Served, offer: Offer, secret: str) -> AsyncIterator[asyncssh.SFTPClient]:
    async with (
        served.connect(offer.account, secret) as connection,
        connection.start_sftp_client() as client,
    ):
        yield client


async def test_it_is_fetched_whole_and_its_progress_is_seen(served: Served, offers: Offers) -> None:
    offer, secret = await laid_out(offers, export=EXPORT, parts__switches=b"deck")
    async with fetching(served, offer, secret) as client:
        assert sorted(await client.listdir("/")) == [".", "..", "export", "parts"]
        async with client.open("/export", "rb") as file:
            assert _bytes(await file.read()) == EXPORT
        async with client.open("parts/switches", "rb") as file:
            assert _bytes(await file.read()) == b"deck"
    assert offer.was_read() == offer.size == len(EXPORT) + 4


async def test_openssh_fetches_it(served: Served, offers: Offers, tmp_path: Path) -> None:
    offer, secret = await laid_out(offers, export=EXPORT)
    there, ask = tmp_path / "fetched", tmp_path / "ask"
    ask.write_text(f"#!/bin/sh\necho '{secret}'\n")
    ask.chmod(0o700)
    words = ["sftp", "-q", "-F", "none", "-P", str(served.port)]
    words += ["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"]
    words += ["-o", "PreferredAuthentications=password", f"{offer.account}@{served.host}:/export"]
    told = {**os.environ, "SSH_ASKPASS": str(ask), "SSH_ASKPASS_REQUIRE": "force"}
    done = await asyncio.to_thread(
        subprocess.run, [*words, str(there)], env=told, capture_output=True, timeout=60
    )
    assert done.returncode == 0, done.stderr
    assert there.read_bytes() == EXPORT


async def test_nothing_can_be_changed(served: Served, offers: Offers) -> None:
    offer, secret = await laid_out(offers, export=EXPORT)
    async with fetching(served, offer, secret) as client:
        for act in (
            client.open("/export", "wb"),
            client.open("/export", "ab"),
            client.open("/other", "wb"),
            client.remove("/export"),
            client.rename("/export", "/other"),
            client.mkdir("/folder"),
            client.chmod("/export", 0o777),
            client.symlink("/etc/passwd", "/link"),
            client.truncate("/export", 0),
        ):
            with pytest.raises(asyncssh.SFTPPermissionDenied):
                await act
        with pytest.raises(asyncssh.SFTPNoSuchFile):
            await client.open("/../../state/key", "rb")
        async with client.open("/export", "rb") as file:
            assert _bytes(await file.read()) == EXPORT


async def test_its_account_is_its_own(served: Served, offers: Offers) -> None:
    offer, secret = await laid_out(offers, export=EXPORT)
    other, _ = await laid_out(offers, export=b"of another restore")
    for account, tried in (
        (offer.account, SECRET),
        (other.account, secret),
        ("orlop-1", secret),
        ("offer_", secret),
        ("offer_../" + offer.note.id, secret),
        (offer.account, ""),
    ):
        with pytest.raises(asyncssh.PermissionDenied):
            await served.connect(account, tried)


async def test_it_ends_with_its_step_also_for_who_is_inside(served: Served, offers: Offers) -> None:
    offer, secret = await laid_out(offers, export=EXPORT)
    async with fetching(served, offer, secret) as client, client.open("/export", "rb") as file:
        assert _bytes(await file.read(10)) == EXPORT[:10]
        offer.end()
        with pytest.raises(asyncssh.SFTPNoSuchFile):
            await file.read(10)
    with pytest.raises(asyncssh.PermissionDenied):
        await served.connect(offer.account, secret)
    assert list(offers.root.iterdir()) == []


async def test_it_runs_out_where_nobody_ends_it(served: Served, offers: Offers) -> None:
    offer, secret = await laid_out(offers, export=EXPORT)
    kept, _ = await laid_out(offers, export=b"still wanted")
    kept.note.until += HOUR
    kept.keep()
    began = offers.now()
    offers.now = lambda: began + HOUR
    with pytest.raises(asyncssh.PermissionDenied):
        await served.connect(offer.account, secret)
    offers.sweep()
    assert [folder.name for folder in offers.root.iterdir()] == [kept.note.id]


async def test_what_was_made_or_ended_half_is_swept_an_hour_later(offers: Offers) -> None:
    offer, _ = await laid_out(offers, export=EXPORT)
    (offer.folder / "offer.json").unlink()  # it died while it ended
    offers.sweep()
    assert offer.folder.exists(), "it may be one that is being made"
    os.utime(offer.folder, (0, 0))
    offers.sweep()
    assert not offer.folder.exists()


async def test_what_lies_on_the_disk_is_sealed(offers: Offers) -> None:
    offer, secret = await laid_out(offers, export=b"community string of the harbour" * 9)
    held = b"".join(path.read_bytes() for path in offer.folder.iterdir())
    assert b"community string" not in held
    assert secret.encode() not in held


async def test_a_damaged_one_is_not_read(served: Served, offers: Offers) -> None:
    offer, secret = await laid_out(offers, export=EXPORT)
    data = offer.folder / "0.data"
    spoiled = bytearray(data.read_bytes())
    spoiled[300_000] ^= 1
    data.write_bytes(spoiled)
    async with fetching(served, offer, secret) as client, client.open("/export", "rb") as file:
        with pytest.raises(asyncssh.SFTPFailure, match="cannot be read"):
            await file.read()


async def test_a_full_disk_lays_nothing_out(offers: Offers) -> None:
    offers.limits = Limits(free=2**62)
    offer, _ = offers.make("system-1", HOUR)
    with pytest.raises(PushRefused, match="disk is full"):
        await offer.add("export", content(EXPORT))
    assert offer.note.files == []


@settings(max_examples=60)
@given(
    size=st.integers(0, 3 * sealed_file.FRAME + 5),
    offset=st.integers(0, 3 * sealed_file.FRAME + 9),
    wanted=st.integers(1, 2 * sealed_file.FRAME),
)
def test_any_piece_is_the_piece(
    tmp_path_factory: pytest.TempPathFactory, size: int, offset: int, wanted: int
) -> None:
    path, key = tmp_path_factory.mktemp("piece") / "data", bytes(32)
    data = os.urandom(size)
    file = sealed_file.SealedFile(path, key)
    file.append(data)
    file.close()
    assert sealed_file.read_at(path, key, offset, wanted) == data[offset : offset + wanted]
    if size:
        with pytest.raises(Damaged):
            sealed_file.read_at(path, bytes(31) + b"\1", 0, 1)


def test_an_account_of_a_system_never_looks_like_one(offers: Offers) -> None:
    at: datetime = offers.now()
    offer, _ = offers.make("system-1", HOUR)
    assert offer.note.until >= at + HOUR
    assert "_" in offer.account  # no name of a system has it
