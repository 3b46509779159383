"""A sheet is drafted anew: what is done stays done, what was chosen stays chosen."""

from __future__ import annotations

import pytest

from fennox.client.api import ProblemError
from fennox.wire.restores import NewDraft
from saltmere.linux import LinuxServer
from tests.core.test_place_values import NEW_FSTAB, OLD_FSTAB
from tests.service.conftest import enrol
from tests.service.restores.test_giving_up import GAUGE, prepared
from tests.service.restores.test_purposes import at, backup_of, drafted, fresh, proved  # noqa: F401
from tests.service.running import Service

ONCE = GAUGE.replace(
    'title = "Bring the gauge to rest"', 'title = "Bring the gauge to rest"\nrepeat = false'
)
CORRECTED = ONCE.replace("version = 1", "version = 2").replace("/srv/low", "/srv/history")


def test_a_corrected_kind_goes_on_where_the_restore_stood(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(ONCE)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        sheet = prepared(client, service, server)
        assert service.ended(client.start_restore(sheet).id).state == "failed"
        safety = client.sheet(sheet).sheet.safety
        client.add_kind(CORRECTED)
        refused = service.ended(client.start_restore(sheet).id)
        assert "is version 2 now" in refused.reason
        assert "fennox restore redraft" in refused.remedy
        again = service.fennox("restore", "redraft", sheet)
        assert again.returncode == 0, again.stderr
        shown = client.sheet(sheet).sheet
        assert (shown.kind_version, shown.state, shown.safety) == (2, "stopped", safety)
        assert [step.state for step in shown.steps[:2]] == ["done", "done"]
        proved(service, client, sheet)
        with pytest.raises(ProblemError, match="is proved"):
            client.redraft_restore(sheet, {})
    assert server.read("/srv/history").split() == ["rest"], "it was done once"
    assert server.read("/srv/gauge/settings") == "depth = 4\n"


def test_other_choices_before_anything_begins(
    service: Service,
    server: LinuxServer,
    fresh: LinuxServer,  # noqa: F811
) -> None:
    server.write("/etc/fstab", OLD_FSTAB.decode())
    fresh.write("/etc/fstab", NEW_FSTAB.decode())
    with service.client() as client:
        wanted = NewDraft(
            backup=backup_of(service, client),
            purpose="practise",
            at=at(fresh),
            login="fresh-root",
            key=fresh.host_key,
            place={"host-name": "target"},
        )
        sheet = drafted(service, client, wanted)
        told = service.fennox(
            "restore", "redraft", sheet, "--place", "file-systems[/srv/tickets]=LABEL=new xfs"
        )
        assert told.returncode == 0, told.stderr
        assert "LABEL=new xfs" in told.stdout
        shown = client.sheet(sheet).sheet
        assert shown.version == 2
        values = {value.name: value for value in shown.placed.values}
        assert (values["host-name"].choice, values["file-systems"].chosen) == ("target", True)
        assert len(client.restores()) == 1
        bad = service.fennox("restore", "redraft", sheet, "--place", "host-name")
        assert (bad.returncode, "is not NAME=CHOICE" in bad.stderr) == (2, True)
        twice = ("--place", "host-name=web-9", "--place", "host-name=web-10")
        bad = service.fennox("restore", "redraft", sheet, *twice)
        assert (bad.returncode, "host-name is given twice" in bad.stderr) == (2, True)
