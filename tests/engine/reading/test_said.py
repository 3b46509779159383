"""What commands say although they succeed: expected messages stand apart, all others are told."""

from __future__ import annotations

from fennox.core.format.manifest import KindFile
from fennox.core.kind_files.loading import load
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.links.base import Credential
from saltmere.linux import LinuxServer
from tests.engine.keeper import Keeper, shipped_text
from tests.engine.restoring.test_linux_server import Install, place_of

KIND = """
name = "talking-server"
version = 1
title = "Server whose programs talk"
includes = ["linux-server"]

[[part]]
name = "gauges"
title = "Gauges"
[[part.source]]
document = "gauges.txt"
run = ["sh", "-c", "cat /srv/said >&2; echo 4"]

[[harmless]]
title = "the gauge is old"
lines = '^calibration of \\S+ is \\d+ years old$'
"""


def keeper_of(vault: Vault, server: LinuxServer, key: str) -> Keeper:
    keeper = Keeper(
        vault, "linux-server", place_of(server), Credential("root", private_key=key), {}
    )
    keeper.kind = load(KIND, shipped_text)
    keeper.kind_file = KindFile(name="talking-server", version=1, text=KIND)
    return keeper


async def test_expected_messages_stand_apart(
    vault: Vault, install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    keeper = keeper_of(vault, server, key_pair[0])
    server.write(
        "/srv/said", "calibration of quay-1 is 9 years old\ncalibration of quay-1 is 9 years old\n"
    )
    journal = MemoryJournal()
    taken = await keeper.take(journal)
    assert journal.lines == [
        ("expected", "sh said: calibration of quay-1 is 9 years old (expected: the gauge is old)")
    ]
    assert [finding for finding in taken.head.findings if finding.code == "said"] == []
    server.append("/srv/said", "gauge quay-2 does not answer\x1b[2J\n" * 2 + "a\nb\nc\n")
    journal = MemoryJournal()
    taken = await keeper.take(journal)
    assert [level for level, _ in journal.lines] == [
        "expected",
        "warning",
        "warning",
        "warning",
        "warning",
    ]
    [finding] = [finding for finding in taken.head.findings if finding.code == "said"]
    assert finding.severity == "note"
    assert (
        "sh: gauge quay-2 does not answer\\x1b[2J; sh: a; sh: b; and 1 more lines" in finding.text
    )
