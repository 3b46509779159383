"""A system that is read through one entrance and restored through another: an appliance and its
maintenance shell.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.stores import NewLogin, NewStore
from saltmere.linux import LinuxServer
from saltmere.skerry import Skerry
from tests.engine.appliances import Place, place
from tests.service.running import PASSPHRASE, Service, came_to

__all__ = ["place"]

KIND = """
name = "quay-store"
version = 1
title = "Appliance that is restored from its maintenance shell"
reach = "https"
port = 8443

[identity]
id = { in = "about", jsonpath = "$.serial" }
product = { in = "about", jsonpath = "$.product" }
version = { in = "about", jsonpath = "$.version" }
[identity.ask]
about = { path = "/api/about" }

[[part]]
name = "state"
title = "What it says of itself"
essential = true
[[part.source]]
document = "state.json"
ask = { fetch = { path = "/api/state" } }

[census]
users = [{ in = "state.json", jsonpath = "$.users[*].name" }]

[restore.entrance]
reach = "ssh"
port = 22

[[restore.write]]
title = "Hand the state to the maintenance shell"
do = "command"
parts = ["state"]
document = "state.json"
run = ["sh", "-c", "cat > /srv/state.json"]

[[restore.check]]
title = "It has arrived"
do = "check"
run = ["test", "-s", "/srv/state.json"]
"""


@pytest.mark.long
def test_it_is_read_through_the_one_and_restored_through_the_other(
    service: Service, server: LinuxServer, key_pair: tuple[str, str], place: Place, tmp_path: Path
) -> None:
    appliance: Skerry = place()
    appliance.configure("quay", "keeper", "made-up-password")
    with service.client() as client:
        client.add_kind(KIND)
        assert [kind.entrance for kind in client.kinds() if kind.name == "quay-store"] == [
            "ssh, port 22"
        ]
        (tmp_path / "attic").mkdir()
        client.add_store(
            NewStore(name="attic", address=str(tmp_path / "attic"), passphrase=PASSPHRASE)
        )
        client.add_login(NewLogin(name="keeper", account="keeper", password="made-up-password"))
        client.add_login(NewLogin(name="shell", account="root", private_key=key_pair[0]))
        client.add_system(
            NewSystem(
                name="quay-1",
                kind="quay-store",
                address=appliance.address,
                login="keeper",
                key=appliance.fingerprint,
            )
        )
        backup = str(came_to(service.ended(client.take(NewTake(system="quay-1")).id), "backup"))
    shell = f"{server.host}:{server.port}"
    words = [
        "restore",
        "draft",
        backup,
        "--repair",
        "--entrance",
        shell,
        "--entrance-login",
        "shell",
    ]
    unknown = service.fennox(*words)
    assert unknown.returncode == 5, unknown.stderr
    assert f"--accept-entrance-key {server.host_key}" in unknown.stderr, unknown.stderr
    words += ["--accept-entrance-key"]
    assert "accepted for it" in service.fennox(*words, "SHA256:x").stderr
    drafted = service.fennox(*words, server.host_key)
    assert drafted.returncode == 0, drafted.stderr
    assert f"{shell} as root" in drafted.stdout
    with service.client() as client:
        [sheet] = client.restores()
        done = service.ended(client.start_restore(sheet.id).id)
        assert (done.state, came_to(done, "proved")) == ("done", True), done.reason
    assert '"users"' in server.read("/srv/state.json")
    assert "is used by 1 run sheet." in service.fennox("login", "remove", "shell").stderr
