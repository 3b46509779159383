"""What a restore does is what its sheet shows, whatever has become of the system meanwhile."""

from __future__ import annotations

from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import SystemChange
from fennox.wire.restores import NewDraft
from fennox.wire.stores import LoginChange
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.service.conftest import enrol
from tests.service.running import Service, came_to, until

TIDES = """
name = "tide-tables"
includes = ["linux-server"]
version = 1
title = "Tide tables"

[settings.mark]
title = "What tells the printer that there are new tables"
default = "/srv/mark"
type = "path"

[[part]]
name = "tables"
title = "Tables"
[[part.source]]
files = ["/srv/tables/*"]

[[restore.write]]
title = "Put back the tables"
do = "write"
parts = ["tables"]

[[restore.release]]
title = "Tell the printer"
do = "command"
parts = ["tables"]
run = ["touch", "{mark}"]
"""


def test_a_setting_that_was_changed_after_the_draft_is_named_and_the_sheets_is_used(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    """The new value was used, while the sheet showed the old one as done."""
    server.write("/srv/tables/west", "04:10 16:35\n")
    with service.client() as client:
        client.add_kind(TIDES)
        enrol(service, server, key_pair[0], kind="tide-tables")
        settings = {"ssh-restart": SSH_RESTART}
        client.change_system("web-9", SystemChange(settings={**settings, "mark": "/srv/first"}))
        backup = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
        server.write("/srv/tables/west", "of last year\n")
        drafted = service.ended(
            client.draft(
                NewDraft(backup=backup, purpose="repair", key=server.host_key, parts=["tables"])
            ).id
        )
        sheet = str(came_to(drafted, "sheet"))
        client.change_system("web-9", SystemChange(settings={**settings, "mark": "/srv/second"}))
        client.change_login("quay-root", LoginChange(private_key=key_pair[0]))
        waits = service.ended(client.start_restore(sheet).id)
        assert waits.state == "waiting", waits.reason
        for said in (
            "mark",
            "/srv/first",
            "/srv/second",
            "the restore uses what the sheet shows",
            "The login was",
        ):
            assert said in waits.reason, waits.reason
        assert server.read("/srv/tables/west") == "of last year\n", (
            "nothing is done before somebody has agreed"
        )
        answered = service.fennox("restore", "answer", sheet, "accept")
        assert answered.returncode == 0, answered.stderr
        until(lambda: client.sheet(sheet).sheet.state == "proved", "it is done and proved")
        assert server.read("/srv/tables/west") == "04:10 16:35\n"
        assert (server.folder / "srv/first").exists()
        assert not (server.folder / "srv/second").exists()
        assert "/srv/first" in service.fennox("restore", "show", sheet).stdout
