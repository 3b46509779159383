"""What a machine itself is: disks, addresses and headers of encrypted volumes are held and shown,
and no restore brings them.
"""

from __future__ import annotations

import io
import shutil
import tarfile

import pytest

from fennox.links.base import Credential
from saltmere.hardware import Hardware
from saltmere.linux import LinuxServer, new_key_pair
from tests.backups import read_back
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_linux_server import (
    Install,
    keeper,
    place_of,
    run_to_the_end,
    server,
)

__all__ = ["keeper", "server"]

VOLUME = "/root/volume.img"


async def test_another_machine_is_told_and_no_part_of_the_proof(
    keeper: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await keeper.take()
    assert taken.head.census["disks"] == ["vda 21474836480"]
    server.lose()
    private, public = new_key_pair("fresh-root")
    fresh = install("debian", public)
    fresh.set_hardware(Hardware("sda 10737418240", address="198.51.100.7/24"))
    login = Credential("root", private_key=private)
    sheet = await keeper.draft(taken, place_of(fresh), login, purpose="replace")
    told = {finding.code: finding.text for finding in sheet.findings}
    assert told["smaller-machine"] == (
        "The disks of the target have 10.7 GB in all, those of the backup's machine had 21.5 GB."
    )
    assert "disks: vda 21474836480 (there sda 10737418240)" in told["other-hardware"]
    assert "addresses: ens3 192.0.2.15/24 (there ens3 198.51.100.7/24)" in told["other-hardware"]
    await run_to_the_end(keeper, sheet, taken, fresh)
    assert sheet.state == "proved", sheet.proof
    assert sheet.proof is not None
    beside = {item.name: (item.missing, item.extra) for item in sheet.proof.machine}
    assert beside["disks"] == (["vda 21474836480"], ["sda 10737418240"])
    assert beside.keys() & {item.name for item in sheet.proof.lists} == set()
    assert "documents of machine" in sheet.proof.left_out_lists


async def test_the_same_machine_is_not_called_another(keeper: Keeper, server: LinuxServer) -> None:
    taken = await keeper.take()
    sheet = await keeper.draft(taken, place_of(server), keeper.login)
    codes = {finding.code for finding in sheet.findings}
    assert codes & {"other-hardware", "smaller-machine"} == set()


async def test_a_file_system_that_is_nearly_full_is_said_until_there_is_room(
    keeper: Keeper, server: LinuxServer
) -> None:
    assert (await keeper.take()).head.findings == []
    server.set_hardware(Hardware(used=95))
    [finding] = (await keeper.take()).head.findings
    said = "File systems of the machine that are at least 95 % full, of bytes or of files: /."
    assert (finding.severity, finding.code, finding.text) == ("warning", "full-file-system", said)
    assert "Make room" in finding.remedy
    server.set_hardware(Hardware(used_files=96))
    assert [one.code for one in (await keeper.take()).head.findings] == ["full-file-system"]
    server.set_hardware(Hardware(used=94))
    assert (await keeper.take()).head.findings == []


async def test_a_header_that_was_overwritten_opens_its_volume_again(
    keeper: Keeper, server: LinuxServer
) -> None:
    if shutil.which("cryptsetup", path="/usr/sbin") is None:
        pytest.skip("SKIPPED: cryptsetup is not installed, so no encryption header is proved")
    cheap = "--pbkdf pbkdf2 --pbkdf-force-iterations 1000"
    server.run("truncate", "-s", "32M", VOLUME)
    format_ = f"cryptsetup luksFormat -q --type luks2 {cheap} {VOLUME} -"
    server.run("sh", "-c", f"mkdir -p /run/cryptsetup; {format_}", feed="made-up-passphrase")
    server.set_hardware(Hardware(encrypted=VOLUME))
    taken = await keeper.take()
    assert taken.head.findings == []
    assert taken.head.census["encrypted volumes"] == [VOLUME]
    reader = await keeper.reader(taken)
    part = await reader.part("encryption-headers")
    assert [one.secret async for one in reader.documents(part)] == [True]
    held = (await read_back(keeper.vault, taken.reference.backup))["luks-headers.tar"]
    with tarfile.open(fileobj=io.BytesIO(held)) as archive:
        [name] = [name for name in archive.getnames() if name.endswith(".header")]
        file = archive.extractfile(name)
        assert file is not None
        header = file.read()
    (server.folder / "root/found.header").write_bytes(header)
    opens = f"cryptsetup open --test-passphrase {VOLUME} -d -"
    server.run("sh", "-c", opens, feed="made-up-passphrase")
    server.run("dd", "if=/dev/zero", f"of={VOLUME}", "bs=1M", "count=16", "conv=notrunc")
    with pytest.raises(RuntimeError, match="ended with"):
        server.run("sh", "-c", opens, feed="made-up-passphrase")
    server.run(
        "cryptsetup",
        "luksHeaderRestore",
        "-q",
        VOLUME,
        "--header-backup-file",
        "/root/found.header",
    )
    server.run("sh", "-c", opens, feed="made-up-passphrase")
    assert list((server.folder / "run").glob("tmp.*")) == [], "nothing of it stays on the machine"
