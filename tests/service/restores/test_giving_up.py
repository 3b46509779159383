"""A restore that failed is given up from the command line: undone as its sheet showed, and the
system goes on.
"""

from __future__ import annotations

import json

import pytest

from fennox.client.api import Client, ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.restores import NewDraft
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import Service, came_to, until

GAUGE = """
name = "tide-gauge"
includes = ["linux-server"]
version = 1
title = "Tide gauge"

[[part]]
name = "gauge"
title = "Settings of the gauge"
[[part.source]]
files = ["/srv/gauge/*"]

[[restore.prepare]]
title = "Bring the gauge to rest"
do = "command"
parts = ["gauge"]
run = ["sh", "-c", "echo rest >> /srv/history"]

[[restore.prepare]]
title = "See that the tide is low"
do = "command"
parts = ["gauge"]
run = ["test", "-e", "/srv/low"]

[[restore.write]]
title = "Put back the settings of the gauge"
do = "write"
parts = ["gauge"]
undone = false

[[restore.undo]]
title = "Have the gauge measure again"
undoes = "Bring the gauge to rest"
do = "command"
run = ["sh", "-c", "echo measure >> /srv/history; test ! -e /srv/stuck"]
"""


def prepared(client: Client, service: Service, server: LinuxServer) -> str:
    run = service.ended(client.take(NewTake(system="web-9")).id)
    backup = str(came_to(run, "backup"))
    run = service.ended(
        client.draft(
            NewDraft(backup=backup, purpose="repair", key=server.host_key, parts=["gauge"])
        ).id
    )
    assert run.state == "done", run.reason
    return str(came_to(run, "sheet"))


def test_a_restore_that_failed_is_given_up(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(GAUGE)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        sheet = prepared(client, service, server)
        early = service.fennox("restore", "undo", sheet)
        assert "has changed nothing on the target" in early.stderr
        assert service.ended(client.start_restore(sheet).id).state == "failed"
        assert "a restore is active" in client.system("web-9").suspended_because
        shown = service.fennox("restore", "show", sheet)
        assert "if it is given up" in shown.stdout
        assert "Have the gauge measure again" in shown.stdout
        server.write("/srv/stuck", "")
        failed = service.fennox("restore", "undo", sheet)
        assert failed.returncode != 0, failed.stdout
        (server.folder / "srv/stuck").unlink()
        with pytest.raises(ProblemError, match="was given up"):
            client.start_restore(sheet)
        undone = service.fennox("restore", "undo", sheet, "--json")
        assert undone.returncode == 0, undone.stderr
        end = client.sheet(sheet).sheet
        assert (end.state, [step.state for step in end.undo]) == ("given up", ["done"])
        assert server.read("/srv/history").split() == ["rest", "measure", "measure"]
        assert client.system("web-9").suspended_because == ""
        assert (
            json.loads(service.fennox("restore", "list", "--json").stdout)[0]["state"] == "given up"
        )
        again = service.fennox("restore", "undo", sheet)
        assert "There is nothing left to undo" in again.stderr
        assert service.ended(client.take(NewTake(system="web-9")).id).state == "done"


@pytest.mark.long
def test_a_kind_that_was_corrected_since_undoes_by_what_a_person_agrees_to(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(GAUGE)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        sheet = prepared(client, service, server)
        assert service.ended(client.start_restore(sheet).id).state == "failed"
        corrected = GAUGE.replace("version = 1", "version = 2").replace(
            "echo measure >>", "echo measures again >>"
        )
        client.add_kind(corrected)
        locked = service.ended(client.start_restore(sheet).id)
        assert (locked.state, locked.problem) == ("failed", "mend-settings")
        assert "was version 1 when the sheet was drafted and is version 2 now" in locked.reason
        assert "fennox restore undo" in locked.remedy
        waits = service.ended(client.undo_restore(sheet).id)
        assert waits.state == "waiting"
        assert "Have the gauge measure again: sh -c 'echo measures again" in waits.reason
        assert server.read("/srv/history").split() == ["rest"], (
            "nothing is undone before somebody has agreed"
        )
        answered = service.fennox("restore", "answer", sheet, "accept")
        assert answered.returncode == 0, answered.stderr
        until(lambda: client.sheet(sheet).sheet.state == "given up", "it is given up")
        assert server.read("/srv/history").splitlines() == ["rest", "measures again"]
        assert client.sheet(sheet).sheet.kind_version == 2
