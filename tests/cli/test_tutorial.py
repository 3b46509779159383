"""The page about a kind of one's own is done as it stands: every file and every command of it."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from fennox.core.kind_files.loading import mistakes
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import shipped_text
from tests.service.running import PASSPHRASE, Service

PAGE = Path(__file__).parent.parent.parent / "docs/your-own-kind.md"
LOGGER = """#!/bin/sh
case "$1" in
  --version) echo "tide-gauge 2.4" ;;
  --check) cd "${2:-/opt/tide}" && grep -q '^harbour' gauge.ini &&
    test -s uplink.key && echo sound ;;
  calibrations) ls /var/tide ;;
  export) cat "/var/tide/$2" ;;
  import) mkdir -p /var/tide && cat > "/var/tide/$2" ;;
  forget) rm -f "/var/tide/$2" ;;
esac
"""


def gauge(server: LinuxServer, *, fresh: bool) -> None:
    server.write("/opt/tide/bin/gauge", LOGGER, mode=0o755)
    server.write("/opt/tide/readings/2026-03.dat", "7.1\n" * 1000)
    if fresh:
        server.write("/var/tide/.keep", "")
        return
    settings = (
        "[gauge]\nevery = 60\nwritten = 1\n[uplink]\nharbour = quay\npassword = made-up-ebb\n"
    )
    server.write("/opt/tide/gauge.ini", settings)
    server.write("/opt/tide/stations.csv", "north;57.1\nsouth;57.0\nskerry;57.3\n")
    server.write("/opt/tide/uplink.key", "made-up-key\n", mode=0o600)
    server.write("/var/tide/spring tide", "offset 0.31\n")
    server.write("/var/tide/neap; rm x", "offset 0.12\n")


def blocks() -> Iterator[tuple[str, str]]:
    """Language and text of each block of the page, in order."""
    for found in re.finditer(
        r"^```(toml|sh)\n(.*?)^```$", PAGE.read_text(), re.MULTILINE | re.DOTALL
    ):
        yield found.group(1), found.group(2)


@pytest.fixture
def ready(service: Service, key_pair: tuple[str, str]) -> Service:
    """What the page takes for granted: a service with a store and a login, and the key in a
    file.
    """
    service.file("p.txt", PASSPHRASE)
    service.file("quay-root", key_pair[0])
    (service.folder / "attic").mkdir()
    for words in (
        ["store", "add", "attic", "attic", "--passphrase-file", "p.txt"],
        ["login", "add", "quay-root", "--account", "root", "--key", "quay-root"],
    ):
        assert service.fennox(*words).returncode == 0
    return service


def test_what_the_page_only_shows_is_no_mistake() -> None:
    page = PAGE.read_text()
    shown = re.findall(r"^```toml skip\n(.*?)^```$", page, re.MULTILINE | re.DOTALL)
    assert shown
    whole = "".join(text for language, text in blocks() if language == "toml")
    _, found = mistakes(whole + "\n" + "\n".join(shown), shipped_text)
    assert found == []


def test_every_step_of_the_page_works_and_the_system_comes_back(
    ready: Service, install: Callable[..., LinuxServer], key_pair: tuple[str, str]
) -> None:
    server, spare = install("gauge"), install("spare")
    gauge(server, fresh=False)
    gauge(spare, fresh=True)
    place = {
        "gauge.saltmere.example": f"{server.host}:{server.port}",
        "SHA256:…": server.host_key,
        "spare.saltmere.example": f"{spare.host}:{spare.port}",
        "SHA256:spare": spare.host_key,
    }
    refused = ready.fennox(
        "kind", "try", "linux-server.toml", "--on", "x", "--account", "root", "--key", "quay-root"
    )
    assert refused.returncode == 2
    assert "cannot be read" in refused.stderr
    said: list[str] = []
    for language, text in blocks():
        if language == "toml":
            with (ready.folder / "tide-gauge.toml").open("a") as file:
                file.write(text)
            continue
        for line in text.splitlines():
            words = [place.get(word, word) for word in shlex.split(line)]
            assert words.pop(0) == "fennox"
            extra = ["--setting", f"ssh-restart={SSH_RESTART}", "--setting", "gauge-restart=true"]
            needs = words[:2] == ["system", "add"] or "--restore" in words
            done = ready.fennox(*words, *(extra if needs else []))
            assert done.returncode == 0, f"{line}: {done.stderr}"
            said.append(done.stdout + done.stderr)
    checked, tried, shown, _, whole, practised, added, *_, listed = said
    assert "No mistake" in checked
    assert "Left out: /opt/tide/readings" in tried
    assert "Nothing was kept" in tried
    assert "north;57.1" in shown
    assert re.search(r"stations +3 +north, skerry, south", whole)
    assert "Nothing was kept but what is on the spare now." in practised
    assert re.search(r"PROVED .*stations +3 +0 +3", practised, re.DOTALL)
    assert spare.read("/opt/tide/stations.csv") == server.read("/opt/tide/stations.csv")
    assert spare.read("/var/tide/neap; rm x") == "offset 0.12\n"
    assert spare.host_key == server.host_key
    assert "tide-gauge" in added
    assert "holm-gauge" in listed
    unknown = ready.fennox(
        "kind",
        "try",
        "tide-gauge.toml",
        "--on",
        place["gauge.saltmere.example"],
        "--account",
        "root",
        "--key",
        "quay-root",
    )
    assert unknown.returncode == 5
    assert server.host_key in unknown.stderr
    server.write(
        "/opt/tide/gauge.ini",
        server.read("/opt/tide/gauge.ini")
        .replace("every = 60", "every = 30")
        .replace("written = 1", "written = 2")
        .replace("made-up-ebb", "made-up-flood"),
    )
    changed = ready.fennox("backup", "compare", "--system", "holm-gauge", "--live").stdout
    assert "gauge / every: 60 → 30" in changed
    assert "uplink / password: secret, and has changed" in changed
    assert "written" not in changed
    assert "made-up" not in changed
    with ready.client() as client:
        [backup] = client.backups()
    server.lose()
    fresh = install("fresh")
    gauge(fresh, fresh=True)
    drafted = ready.fennox(
        "restore",
        "draft",
        backup.id,
        "--replace",
        "--at",
        f"{fresh.host}:{fresh.port}",
        "--login",
        "quay-root",
        "--accept-key",
        fresh.host_key,
        "--quiet",
    )
    assert drafted.returncode == 0, drafted.stderr
    started = ready.fennox(
        "restore", "start", drafted.stdout.strip(), "--yes", "holm-gauge", "--no-follow", "--quiet"
    )
    ended = ready.ended(started.stdout.strip())
    assert ended.state == "done", ended.reason
    assert fresh.read("/opt/tide/stations.csv") == "north;57.1\nsouth;57.0\nskerry;57.3\n"
    assert fresh.read("/var/tide/spring tide") == "offset 0.31\n"
    assert fresh.read("/var/tide/neap; rm x") == "offset 0.12\n", "a name is never run"
    assert "proved" in ready.fennox("restore", "show", drafted.stdout.strip()).stdout
