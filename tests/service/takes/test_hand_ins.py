"""What no machine gives by itself: people export it, hand it in, and it stays until they hand in a
newer one.
"""

from __future__ import annotations

import json

import psycopg
import pytest

from fennox.wire.machines.enrolling import SystemChange
from fennox.wire.stores import NewLogin
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import Service, until

SWITCH = """
name = "voice-switch"
version = 1
title = "Voice switch"
reach = "hand"
port = 443
rebuilt_by = "in its console: Maintenance, Load settings"

[identity]
id = { in = "settings.json", jsonpath = "$.serial" }
product = { in = "settings.json", jsonpath = "$.product" }
version = { in = "settings.json", jsonpath = "$.version" }

[[part]]
name = "settings"
title = "Extensions and greetings"
essential = true

[[part.source]]
document = "settings.json"
hand = { how = "In its console: Maintenance, Save settings.", every = 30, fits = '"extensions"' }

[census]
extensions = [{ in = "settings.json", jsonpath = "$.extensions[*]" }]
"""
LICENCED = """
name = "licenced-server"
version = 1
title = "Linux server with a licence"
includes = ["linux-server"]

[[part]]
name = "licence"
title = "The licence file"
essential = true

[[part.source]]
document = "licence.txt"
secret = true
hand = { how = "Save the licence from the maker's portal.", fits = "LICENCE" }
"""


def settings(serial: str, *extensions: str) -> str:
    return json.dumps(
        {"serial": serial, "product": "tern", "version": "7.1", "extensions": list(extensions)}
    )


@pytest.fixture
def switch(service: Service, server: LinuxServer, key_pair: tuple[str, str]) -> Service:
    enrol(service, server, key_pair[0])
    service.file("switch.toml", SWITCH)
    assert service.fennox("kind", "add", "switch.toml").returncode == 0
    added = service.fennox("system", "add", "quay-voice", "voice-switch", "10.1.2.3")
    assert added.returncode == 0, added.stderr
    assert "backup hand-in quay-voice" in added.stderr
    return service


def test_it_is_asked_for_handed_in_counted_and_held_until_the_next_one(switch: Service) -> None:
    assert "Extensions and greetings was never handed in" in switch.fennox("status").stdout
    assert "Save settings" in switch.fennox("backup", "hand-in", "quay-voice").stdout
    switch.file("one.json", settings("T-1", "quay", "crew"))
    done = switch.fennox("backup", "hand-in", "quay-voice", "one.json", "--note", "after the storm")
    assert done.returncode == 0, done.stderr
    assert "2 extensions" in done.stdout
    with switch.client() as client:
        first = client.backups(system="quay-voice")[0]
        assert (first.held, first.partial, first.machine.id) == (True, False, "T-1")
        assert client.system("quay-voice").missing == []
        switch.file("two.json", settings("T-1", "quay", "crew", "tower"))
        assert switch.fennox("backup", "hand-in", "quay-voice", "two.json").returncode == 0
        newest, before = client.backups(system="quay-voice")
        assert (newest.held, before.held, before.id) == (True, False, first.id)
        shown = client.hand_ins("quay-voice")[0]
        assert (shown.backup, shown.by) == (newest.id, "harbour-admin")
    compared = switch.fennox("backup", "compare", first.id[:12], newest.id[:12])
    assert "tower" in compared.stdout, compared.stderr
    assert "tower" not in switch.log


def test_a_wrong_file_changes_nothing(switch: Service) -> None:
    for text, said in (
        ("", "is empty"),
        ("{}", "does not look like settings.json"),
        ("\0" * 9, "does not look like"),
    ):
        switch.file("wrong.json", text)
        refused = switch.fennox("backup", "hand-in", "quay-voice", "wrong.json")
        assert refused.returncode == 2, refused.stderr
        assert said in refused.stderr, refused.stderr
    with switch.client() as client:
        assert client.backups(system="quay-voice") == []
        assert client.runs(system="quay-voice") == []


def test_the_export_of_another_machine_waits_for_a_person(switch: Service) -> None:
    switch.file("one.json", settings("T-1", "quay"))
    switch.file("other.json", settings("T-2", "quay"))
    assert switch.fennox("backup", "hand-in", "quay-voice", "one.json").returncode == 0
    other = switch.fennox("backup", "hand-in", "quay-voice", "other.json")
    assert other.returncode == 5, other.stderr
    assert "T-2" in other.stderr, other.stderr
    assert switch.fennox("system", "confirm", "quay-voice", "--machine", "T-2").returncode == 0
    assert switch.fennox("backup", "hand-in", "quay-voice", "other.json").returncode == 0


def test_what_belongs_to_a_machine_that_is_reached_lies_in_a_backup_of_its_own(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    service.file("kind.toml", LICENCED)
    assert service.fennox("kind", "add", "kind.toml").returncode == 0
    with service.client() as client:
        client.add_login(NewLogin(name="again", account="root", private_key=key_pair[0]))
        server.lose()
    server.install("tolls-1", key_pair[1])
    server.start()
    words = [
        "system",
        "add",
        "tolls-1",
        "licenced-server",
        f"{server.host}:{server.port}",
        "--login",
        "again",
    ]
    with service.client() as client:
        client.change_system("web-9", SystemChange(address="127.0.0.1:1"))
        done = service.fennox(*words, "--accept-key", server.host_key)
        assert done.returncode == 0, done.stderr
        assert service.fennox("backup", "take", "tolls-1").returncode == 0
        system = client.system("tolls-1")
        assert [finding.code for finding in system.missing if finding.severity == "warning"] == [
            "hand-in-due"
        ]
        service.file("licence", "LICENCE of tolls-1: 40 quays\n")
        assert service.fennox("backup", "hand-in", "tolls-1", "licence").returncode == 0
        taken, handed = client.backups(system="tolls-1")[1], client.backups(system="tolls-1")[0]
        assert [part.name for part in handed.parts] == ["licence"]
        assert client.system("tolls-1").newest_backup == taken.id, "it is no backup to rebuild from"
        assert client.system("tolls-1").missing == []
        assert any("holds only what was handed in" in said for said in handed.worth)
        assert any("People hand in The licence file" in said for said in taken.worth)


@pytest.mark.long
def test_content_whose_take_failed_is_not_kept(switch: Service) -> None:
    (switch.folder / "attic").rename(switch.folder / "away")
    switch.file("one.json", settings("T-1", "quay"))
    failed = switch.fennox("backup", "hand-in", "quay-voice", "one.json")
    assert failed.returncode == 1
    switch.kill()
    switch.start()  # the first look of a service that starts is at what is left over

    def forgotten() -> bool:
        address = switch.database.replace("postgresql+psycopg", "postgresql")
        with psycopg.connect(address) as connection:
            row = connection.execute("select sealed from handed_in").fetchone()
        return row == (None,)

    until(forgotten, "the content is forgotten")
