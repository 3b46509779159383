"""A take asks a machine for a push, and waits until all of it has arrived."""

from __future__ import annotations

import pytest

from fennox.client.api import Client
from fennox.wire.backups import NewTake
from fennox.wire.drops import NewDropLogin
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.stores import NewLogin, NewStore
from saltmere.linux import LinuxServer, new_key_pair
from tests.service.conftest import install, key_pair
from tests.service.drops.test_pushes import switched_on
from tests.service.running import PASSPHRASE, Service, came_to

__all__ = ["install", "key_pair"]

KIND = """
name = "tide-bell"
version = 1
title = "Tide bell"
reach = "ssh"
port = 22
rebuilt_by = "by its own loader"

[identity]
id = { in = "who", regex = '^(\\w+)' }
product = { in = "who", regex = '(bell)' }
version = { in = "who", regex = 'bell (\\d+)' }
[identity.run]
who = ["sh", "-c", "cat /etc/machine-id; echo bell 4"]

[[part]]
name = "state"
title = "State of the bell"
essential = true
[[part.source]]
files = ["/srv/bell/*"]
[[part.source]]
document = "exports/{name}"
[part.source.push]
files = ["state-*.bin"]
quiet = 1
within = WITHIN
start = { run = ["/usr/local/sbin/ring-out"] }
"""
RING = """#!/bin/sh
printf 'put /srv/export state-%s.bin\\n' "$(date +%s%N)" |
sftp -q -b - -i /root/drop -P PORT -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null \\
  web-9@HOST
"""


@pytest.fixture
def bell(service: Service, server: LinuxServer, key_pair: tuple[str, str]) -> LinuxServer:
    """A machine that pushes when it is told to, with a key of its own."""
    own, public = new_key_pair("bell")
    server.write("/root/drop", own, mode=0o600)
    server.write("/srv/bell/settings", "rings = 4\n")
    server.write("/srv/export", "state of the bell\n" * 5000)
    (service.folder / "attic").mkdir()
    with service.client() as client:
        switched_on(service, client)
        client.add_store(
            NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        )
        client.add_login(NewLogin(name="quay-root", account="root", private_key=key_pair[0]))
        client.add_kind(KIND.replace("WITHIN", "60"))
        client.add_system(
            NewSystem(
                name="web-9",
                kind="tide-bell",
                address=f"{server.host}:{server.port}",
                login="quay-root",
                key=server.host_key,
            )
        )
        client.add_drop_login("web-9", NewDropLogin(key=public))
        host, _, port = client.drop().sftp.rpartition(":")
    script = RING.replace("PORT", port).replace("HOST", host)
    server.write("/local/sbin/ring-out", script, mode=0o755)
    return server


def taken(service: Service, client: Client) -> dict[str, int | None]:
    run = service.ended(client.take(NewTake(system="web-9")).id)
    assert run.state == "done", run.reason
    return {one.path: one.size for one in client.documents(str(came_to(run, "backup")))}


def test_a_take_asks_waits_and_empties_the_drop(service: Service, bell: LinuxServer) -> None:
    bell.run("/usr/local/sbin/ring-out")  # of an asking whose take failed
    with service.client() as client:
        [left] = [file.name for file in client.drop_of("web-9").files]
        held = taken(service, client)
        assert f"exports/{left}" not in held
        [pushed] = [path for path in held if path.startswith("exports/state-")]
        assert held == {"/srv/bell/settings": 10, pushed: 90_000}
        assert client.drop_of("web-9").files == []
        again = taken(service, client)
        assert pushed not in again, "each take has a push of its own"
        assert len(again) == 2


def test_a_machine_that_is_asked_and_pushes_nothing_is_said(
    service: Service, bell: LinuxServer
) -> None:
    bell.write("/local/sbin/ring-out", "#!/bin/sh\nexit 0\n", mode=0o755)
    with service.client() as client:
        quick = KIND.replace("WITHIN", "2").replace("version = 1", "version = 2")
        client.add_kind(quick)
        run = service.ended(client.take(NewTake(system="web-9")).id)
        assert run.state == "failed"
        assert "was not whole within 2 seconds: nothing has arrived" in run.reason
        bell.write("/local/sbin/ring-out", "#!/bin/sh\necho no paper >&2; exit 3\n", mode=0o755)
        run = service.ended(client.take(NewTake(system="web-9")).id)
        assert "ended with 3: no paper" in run.reason
