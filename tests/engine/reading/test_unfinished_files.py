"""Files that a machine writes by its own schedule are taken once they are finished."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

import pytest

from fennox.core.errors import BadInput
from fennox.core.kind_files.loading import load
from fennox.engine.backups.vault import Vault
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import Keeper, shipped_text
from tests.engine.restoring.test_linux_server import place_of

DUMPS = """
name = "dump-server"
version = 1
title = "Linux server that writes dumps by night"
includes = ["linux-server"]

[[part]]
name = "dumps"
title = "What it writes by its own schedule"
[[part.source]]
files = ["/srv/dumps/*"]
settled = 600
"""


async def test_what_is_fresh_or_grows_waits_for_the_next_take(
    vault: Vault, install: Callable[..., LinuxServer], key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    keeper = Keeper(
        vault,
        "linux-server",
        place_of(server),
        Credential("root", private_key=key_pair[0]),
        {"ssh-restart": SSH_RESTART},
    )
    keeper.kind = load(DUMPS, shipped_text)
    hour = time.time() - 3600
    for name in ("monday.dump", "t*esday.dump", "wednesday.dump"):
        server.write(f"/srv/dumps/{name}", "rows", modified=hour)
    server.write("/srv/dumps/thursday.dump", "half")
    ended = threading.Event()

    def grow() -> None:
        """Writes, and sets the time back, as some programs do."""
        while not ended.wait(0.05):
            server.append("/srv/dumps/wednesday.dump", "more rows")
            server.write(
                "/srv/dumps/wednesday.dump", server.read("/srv/dumps/wednesday.dump"), modified=hour
            )

    writer = threading.Thread(target=grow)
    writer.start()
    try:
        taken = await keeper.take(parts=["dumps"])
    finally:
        ended.set()
        writer.join()
    assert [path for path in taken.documents["dumps"] if path.endswith("dump")] == [
        "/srv/dumps/monday.dump",
        "/srv/dumps/t*esday.dump",
    ]
    told = [
        finding.text.split()[0]
        for finding in taken.head.findings
        if finding.code == "still-written"
    ]
    assert sorted(told) == ["/srv/dumps/thursday.dump", "/srv/dumps/wednesday.dump"]
    assert set(told) <= set(taken.head.left_out)
    for name in ("wednesday", "thursday"):
        server.write(f"/srv/dumps/{name}.dump", "whole", modified=hour)
    again = await keeper.take(parts=["dumps"])
    assert len([path for path in again.documents["dumps"] if path.endswith("dump")]) == 4
    assert not [finding for finding in again.head.findings if finding.code == "still-written"]


def test_only_files_settle() -> None:
    source = 'run = ["date"]\ndocument = "date.txt"\nsettled = 600'
    with pytest.raises(BadInput, match="settled and named_by are for files"):
        load(DUMPS.replace('files = ["/srv/dumps/*"]\nsettled = 600', source), shipped_text)
