"""A machine that really boots is lost, and replaced by one with other disks and another network
card; it comes up again after a restart, and is proved.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from fennox.engine.backups.vault import Vault
from fennox.links.base import Credential
from saltmere.linux import save_key
from tests.engine.keeper import Keeper
from tests.engine.restoring import booted
from tests.places import free_port, loopback

pytestmark = [
    pytest.mark.long,
    pytest.mark.skipif(
        bool(booted.lacking()),
        reason=(
            f"SKIPPED: {', '.join(booted.lacking())} is missing; that a restored machine boots is"
            " not proved"
        ),
    ),
]

TIDES = "[Unit]\nDescription=Tides of Saltmere\n[Service]\nUser=tides\nExecStart=sleep infinity\n"
TIDES += "[Install]\nWantedBy=multi-user.target\n"
PRODUCTION = {
    "etc/systemd/system/saltmere-tides.service": TIDES,
    "etc/saltmere/tides.conf": "harbour = Saltmere\n",
    "etc/sysctl.d/90-saltmere.conf": "vm.swappiness = 11\n",
}
SETTING_UP = (
    "useradd --system --uid 640 --home-dir /etc/saltmere tides"
    " && chown tides: /etc/saltmere/tides.conf && chmod 600 /etc/saltmere/tides.conf"
    " && systemctl daemon-reload && systemctl enable -q --now saltmere-tides"
    " && sysctl -q --system"
)
READ = (
    "hostname; cat /etc/hostname; systemctl is-active saltmere-tides cron ssh; systemctl is-enabled"
    " saltmere-tides; stat -c '%U %u %a' /etc/saltmere/tides.conf; cat /etc/saltmere/tides.conf"
    " /proc/sys/vm/swappiness; ps -o user= -C sleep; sha256sum /etc/ssh/ssh_host_ed25519_key"
)
PLACE = (
    "cat /etc/fstab /etc/network/interfaces; ip -br -4 addr show up; findmnt -no UUID,TARGET /srv"
)


@pytest.fixture(scope="module")
def debian(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return booted.debian(tmp_path_factory.mktemp("debian"))


@pytest.fixture
def machines(tmp_path: Path, debian: Path) -> Iterator[tuple[booted.Booted, booted.Booted]]:
    made = []
    for number, name in ((3, "web-9"), (7, "debian")):
        folder, host = tmp_path / name, loopback()
        folder.mkdir()
        key, _ = save_key(tmp_path, "quay-root" if name == "web-9" else "fresh-root")
        made.append(
            booted.Booted(folder, debian, number, name, key, host, free_port(host)),
        )
    yield made[0], made[1]
    for machine in made:
        machine.throw_away()


@pytest.mark.timeout(5400)
@pytest.mark.parametrize("run", range(3))
async def test_a_replaced_machine_boots_again(
    vault: Vault,
    machines: tuple[booted.Booted, booted.Booted],
    run: int,
) -> None:
    old, new = machines
    old.install(PRODUCTION)
    old.boot()
    old.read(SETTING_UP)
    before = old.read(READ)
    assert before.splitlines()[2:6] == ["active", "active", "active", "enabled"]
    login = Credential("root", private_key=old.private_key.read_text())
    keeper = Keeper(vault, "linux-server", old.place, login, {})
    taken = await keeper.take()
    old.throw_away()

    new.install({})
    new.boot()
    place = new.read(PLACE)
    fresh_login = Credential("root", private_key=new.private_key.read_text())
    sheet = await keeper.draft(taken, new.place, fresh_login, purpose="replace")
    assert sheet.blockers() == []
    assert new.read("hostname") == "debian", "a draft changes nothing"
    await keeper.restore(sheet, taken)
    while (gate := sheet.open_gate()) is not None:
        keeper.answer(sheet, gate.choices[0])
        await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof

    new.private_key = old.private_key  # its own login is the backup's now
    new.reboot()
    assert new.read(READ) == before
    assert new.read(PLACE) == place, "its disks and its network card are its own"
    keeper.place = sheet.after.place
    sheet.begin_proof_again()
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    assert new.read("systemctl --failed --no-legend") == ""
