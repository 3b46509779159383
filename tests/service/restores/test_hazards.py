"""What a restore of a system meets that can go wrong, and whether it was ever met."""

from __future__ import annotations

import pytest

from fennox.wire.machines.enrolling import SystemChange
from fennox.wire.restores import NewDraft
from saltmere.linux import LinuxServer
from tests.service.restores.test_purposes import as_spare, backup_of, drafted, fresh, proved
from tests.service.restores.test_returning import returned
from tests.service.running import Service

__all__ = ["fresh"]


@pytest.mark.long
def test_what_was_practised_is_met_and_all_else_is_said_never_to_have_been(
    service: Service, fresh: LinuxServer
) -> None:
    with service.client() as client:
        before = client.hazards("web-9")
        assert before.items
        assert not any(item.met or item.met_elsewhere for item in before.items)
        assert "0 of" not in service.fennox("system", "hazards", "web-9").stderr
        as_spare(client, fresh)
        wanted = NewDraft(backup=backup_of(service, client), purpose="practise", onto="spare-1")
        sheet = drafted(service, client, wanted)
        proved(service, client, sheet)
        done = {step.title for step in client.sheet(sheet).sheet.steps if step.state == "done"}
        after = client.hazards("web-9")
        assert {item.step for item in after.items if item.met} == done & {
            item.step for item in after.items
        }
        [met] = {(item.met.sheet, item.met.purpose) for item in after.items if item.met}
        assert met == (sheet, "practise")
        returned(service, client, sheet)
        assert client.hazards("web-9") == after, "it was met, whatever became of the spare"
        of_the_spare = client.hazards("spare-1")
        assert not any(item.met for item in of_the_spare.items)
        assert {item.met_elsewhere.system for item in of_the_spare.items if item.met_elsewhere} == {
            "web-9"
        }
        client.change_system("spare-1", SystemChange(labels=["practice"]))
    said = service.fennox("system", "hazards", "web-9")
    assert "practised" in said.stdout
    with service.another("tender", "operator", scope=["label=practice"]) as narrow:
        told = narrow.hazards("spare-1")
        assert not any(item.met_elsewhere for item in told.items), "they do not see web-9"
