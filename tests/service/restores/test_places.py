"""Values of the place over the API: shown before anything begins, chosen by a person."""

from __future__ import annotations

import pytest

from fennox.client.api import ProblemError
from fennox.wire.restores import NewDraft
from saltmere.linux import LinuxServer
from tests.core.test_place_values import NEW_FSTAB, OLD_FSTAB
from tests.service.restores.test_purposes import at, backup_of, drafted, fresh, proved  # noqa: F401
from tests.service.running import Service

WIFI = "[connection]\nid=quay\ninterface-name=wlan0\n[wifi-security]\npsk=not-for-anybody\n"


def wanted(backup: str, machine: LinuxServer, **more: object) -> NewDraft:
    fixed: dict[str, object] = {
        "backup": backup,
        "purpose": "practise",
        "at": at(machine),
        "login": "fresh-root",
        "key": machine.host_key,
    }
    return NewDraft.model_validate({**fixed, **more})


@pytest.fixture
def prepared(server: LinuxServer) -> LinuxServer:
    server.write("/etc/fstab", OLD_FSTAB.decode())
    server.write("/etc/NetworkManager/system-connections/quay.nmconnection", WIFI, mode=0o600)
    return server


def test_a_sheet_shows_and_the_target_gets_what_belongs_there(
    service: Service,
    prepared: LinuxServer,
    fresh: LinuxServer,  # noqa: F811
) -> None:
    fresh.write("/etc/fstab", NEW_FSTAB.decode())
    with service.client() as client:
        sheet = drafted(service, client, wanted(backup_of(service, client), fresh))
        shown = client.sheet(sheet)
        values = {value.name: value for value in shown.sheet.placed.values}
        root = values["file-systems"].entries[0]
        assert (root.key, root.after) == ("/", "UUID=11111111-2222-3333-4444-555555555555 xfs")
        assert root.backup == "UUID=0a3407de-014b-458b-b5c1-848e92a327a3 ext4"
        assert "not-for-anybody" not in shown.model_dump_json()
        proved(service, client, sheet)
    assert fresh.read("/etc/fstab").startswith("# /etc/fstab")
    assert "UUID=11111111-2222-3333-4444-555555555555 / " in " ".join(
        fresh.read("/etc/fstab").split()
    )
    assert not (fresh.folder / "etc/NetworkManager/system-connections/quay.nmconnection").exists()


def test_a_choice_must_be_one(
    service: Service,
    prepared: LinuxServer,
    fresh: LinuxServer,  # noqa: F811
) -> None:
    with service.client() as client:
        backup = backup_of(service, client)
        with pytest.raises(ProblemError, match="has no value of the place diks"):
            client.draft(wanted(backup, fresh, place={"diks": "target"}))
        with pytest.raises(ValueError, match="should match pattern"):
            wanted(backup, fresh, place={"host-name": "web-9\nroot::0:0"})
        sheet = drafted(
            service, client, wanted(backup, fresh, place={"file-systems[/nowhere]": "target"})
        )
        blockers = client.sheet(sheet).sheet.blockers()
        assert [finding.code for finding in blockers] == ["place-unknown"]
        with pytest.raises(ProblemError, match="neither the backup nor the target"):
            client.start_restore(sheet)
