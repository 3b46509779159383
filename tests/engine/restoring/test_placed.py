"""A real server is replaced by one with other disks and another network: what belongs to the place
stays as it is there, as the sheet shows it, and the proof expects just that.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest

from fennox.core.errors import MendSettings
from fennox.core.restoring.sheet import Sheet
from fennox.engine.backups.vault import Vault
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair
from tests.core.test_place_values import NEW_FSTAB, OLD_FSTAB
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_linux_server import place_of, run_to_the_end

Install = Callable[..., LinuxServer]
STATIC = "auto eth0\niface eth0 inet static\n    address 10.1.2.3/24\n    gateway 10.1.2.1\n"
DHCP = "auto enp1s0\niface enp1s0 inet dhcp\n"


@pytest.fixture
def server(install: Install) -> LinuxServer:
    server = install("web-9")
    server.configure("ticket", files=4)
    server.write("/etc/fstab", OLD_FSTAB.decode())
    server.write("/etc/network/interfaces", STATIC)
    server.write("/etc/network/interfaces.d/vlan7", "auto eth0.7\niface eth0.7 inet dhcp\n")
    return server


@pytest.fixture
def keeper(vault: Vault, server: LinuxServer, key_pair: tuple[str, str]) -> Keeper:
    login = Credential("root", private_key=key_pair[0])
    return Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})


@pytest.fixture
def fresh(install: Install) -> tuple[LinuxServer, Credential]:
    private, public = new_key_pair("fresh-root")
    fresh = install("debian", public)
    fresh.write("/etc/fstab", NEW_FSTAB.decode())
    fresh.write("/etc/network/interfaces", DHCP)
    return fresh, Credential("root", private_key=private)


def choices(sheet: Sheet) -> dict[str, str]:
    return {value.name: value.choice for value in sheet.placed.values}


async def test_a_replacement_keeps_its_own_disks_and_network(
    keeper: Keeper, server: LinuxServer, fresh: tuple[LinuxServer, Credential]
) -> None:
    machine, login = fresh
    taken = await keeper.take()
    sheet = await keeper.draft(taken, place_of(machine), login, purpose="replace")
    assert choices(sheet) == {
        "network": "target",
        "file-systems": "target",
        "host-name": "backup",
        "own-host-entry": "backup",
    }
    [rewritten] = sheet.placed.rewritten
    assert rewritten.path == "/etc/fstab"
    shown = "\n".join(str(change.after) for change in rewritten.change.changes)
    assert "# not on this machine: LABEL=tickets" in shown
    assert {one.path: one.target is not None for one in sheet.placed.kept} == {
        "/etc/network/interfaces": True,
        "/etc/network/interfaces.d/vlan7": False,
    }
    assert "/etc/network/interfaces" not in sheet.overwrites.changed
    server.lose()

    await run_to_the_end(keeper, sheet, taken, machine)

    assert sheet.proof is not None
    assert sheet.state == "proved", sheet.proof
    fstab = machine.read("/etc/fstab").splitlines()
    assert fstab[1].split()[:3] == ["UUID=11111111-2222-3333-4444-555555555555", "/", "xfs"]
    assert "depot.saltmere.example:/export /mnt/depot nfs4 ro,soft 0 0" in fstab
    assert machine.read("/etc/network/interfaces") == DHCP
    assert not (machine.folder / "etc/network/interfaces.d/vlan7").exists()
    assert machine.read("/etc/hostname") == "web-9\n"
    [kept] = [one for one in sheet.proof.lists if one.name == "documents kept as the target's"]
    assert (kept.backup, kept.missing) == (1, [])
    [files] = [one for one in sheet.proof.lists if one.name == "files"]
    assert files.missing == []
    assert "/etc/network/interfaces.d/vlan7" in taken.head.census["files"]


async def test_a_repair_of_the_same_installation_brings_everything_back(
    keeper: Keeper, server: LinuxServer
) -> None:
    taken = await keeper.take()
    server.write("/etc/network/interfaces", DHCP)
    server.write("/etc/fstab", NEW_FSTAB.decode())
    sheet = await keeper.draft(taken, place_of(server), keeper.login)
    assert set(choices(sheet).values()) == {"backup"}
    assert (sheet.placed.rewritten, sheet.placed.kept) == ([], [])
    await run_to_the_end(keeper, sheet, taken, server)
    assert sheet.state == "proved"
    assert server.read("/etc/network/interfaces") == STATIC
    assert server.read("/etc/fstab") == OLD_FSTAB.decode()


async def test_a_person_chooses_otherwise(
    keeper: Keeper, server: LinuxServer, fresh: tuple[LinuxServer, Credential]
) -> None:
    machine, login = fresh
    taken = await keeper.take()
    given = {
        "network": "backup",
        "file-systems[/srv/tickets]": "LABEL=vault xfs",
        "host-name": "web-9b",
    }
    sheet = await keeper.draft(taken, place_of(machine), login, purpose="practise", places=given)
    assert sheet.blockers() == []
    await run_to_the_end(keeper, sheet, taken, machine)
    assert sheet.state == "proved", sheet.proof
    assert machine.read("/etc/network/interfaces") == STATIC
    assert machine.read("/etc/hostname") == "web-9b\n"
    assert "\nLABEL=vault   /srv/tickets    xfs " in machine.read("/etc/fstab")


async def test_what_was_kept_and_changed_meanwhile_is_not_proved(
    keeper: Keeper, fresh: tuple[LinuxServer, Credential]
) -> None:
    machine, login = fresh
    taken = await keeper.take()
    sheet = await keeper.draft(taken, place_of(machine), login, purpose="replace")
    await run_to_the_end(keeper, sheet, taken, machine)
    machine.write("/etc/network/interfaces", "iface enp9s9 inet manual\n")
    sheet.begin_proof_again()
    keeper.place = sheet.after.place
    await keeper.restore(sheet, taken)
    assert sheet.state == "not proved"
    assert sheet.proof is not None
    [kept] = [one for one in sheet.proof.lists if one.name == "documents kept as the target's"]
    assert kept.missing == ["/etc/network/interfaces"]


async def test_a_target_whose_disks_changed_since_the_draft_is_asked_about(
    keeper: Keeper, fresh: tuple[LinuxServer, Credential]
) -> None:
    machine, login = fresh
    taken = await keeper.take()
    sheet = await keeper.draft(taken, place_of(machine), login, purpose="replace")
    machine.write("/etc/fstab", "UUID=00 / ext4 defaults 0 1\n")
    await keeper.restore(sheet, taken)
    gate = sheet.open_gate()
    assert gate is not None
    assert "values of the place have changed" in gate.question
    assert machine.read("/etc/fstab") == "UUID=00 / ext4 defaults 0 1\n"


async def test_only_what_the_sheet_shows_is_written(
    keeper: Keeper, fresh: tuple[LinuxServer, Credential]
) -> None:
    machine, login = fresh
    taken = await keeper.take()
    sheet = await keeper.draft(taken, place_of(machine), login, purpose="replace")
    entry = sheet.placed.values[1].entries[0]
    assert entry.key == "/"
    entry.after = "UUID=somebody-else ext4"
    with pytest.raises(MendSettings, match="not be written as this sheet shows"):
        await run_to_the_end(keeper, sheet, taken, machine)
    assert machine.read("/etc/fstab") == NEW_FSTAB.decode()
