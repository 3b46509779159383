"""A look tells exactly what a system is not any more, by digests alone, against a real server."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest

from fennox.core.format.manifest import Document
from fennox.core.kind_files.loading import load
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.reading.capture import Capture, identify
from fennox.engine.takes.look import Difference, blinded, difference, look
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import Here, Keeper, shipped_text
from tests.engine.restoring.test_linux_server import place_of

GAUGE = """
name = "gauge-server"
version = 1
title = "Linux server with a tide gauge"
includes = ["linux-server"]

[[noise]]
title = "When it was written"
in = "/etc/gauge/*.conf"
lines = "^written = "

[[noise]]
title = "A counter"
in = "/etc/gauge/*.json"
jsonpath = "$.count"

[[noise]]
title = "A cache"
in = "/etc/gauge/cache"
whole = true
"""


@pytest.fixture
def server(install: Callable[..., LinuxServer]) -> LinuxServer:
    server = install("web-9")
    server.configure("ticket", files=3)
    write_gauge(server, 1)
    return server


def write_gauge(server: LinuxServer, number: int) -> None:
    server.write("/etc/gauge/tide.conf", f"every = 60\nwritten = {number}\n")
    server.write("/etc/gauge/tide.json", f'{{"count": {number}, "harbour": "quay"}}')
    server.write("/etc/gauge/cache", f"{number}\n" * number)


@pytest.fixture
def keeper(vault: Vault, server: LinuxServer, key_pair: tuple[str, str]) -> Keeper:
    login = Credential("root", private_key=key_pair[0])
    keeper = Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})
    keeper.kind = load(GAUGE, shipped_text)
    return keeper


async def seen(keeper: Keeper, taken: Taken, *, with_secrets: bool = True) -> Difference:
    link = await keeper.connect(keeper.place)
    try:
        capture = Capture(
            keeper.kind, keeper.settings, await identify(keeper.kind, link, keeper.settings)
        )
        now = await look(
            link, capture, list(taken.plain), MemoryJournal(), Here(), with_secrets=with_secrets
        )
    finally:
        await link.close()
    return difference(blinded(taken.plain, keeper.vault.secret), now, keeper.vault.secret)


async def test_what_changed_is_told_and_noise_is_not(keeper: Keeper, server: LinuxServer) -> None:
    taken = await keeper.take()
    write_gauge(server, 2)
    assert str(await seen(keeper, taken)) == ""
    server.write("/etc/gauge/tide.conf", "every = 30\nwritten = 3\n")
    (server.folder / "etc/gauge/tide.json").chmod(0o600)
    server.write("/etc/gauge/new.conf", "made up")
    Path(os.fsdecode(os.fsencode(server.folder / "etc/gauge") + b"/caf\xe9")).write_bytes(
        b"not UTF-8"
    )
    (server.folder / "etc/gauge/cache").unlink()
    found = await seen(keeper, taken)
    assert found.changed == ["/etc/gauge", "/etc/gauge/tide.conf", "/etc/gauge/tide.json"][-2:]
    assert (len(found.new), found.new[-1], found.gone) == (2, "/etc/gauge/new.conf", 1)
    assert "1 gone" in str(found)
    assert str(await seen(keeper, await keeper.take())) == "", (
        "taken, it is what its backup holds again"
    )


async def test_what_is_taken_over_by_its_stamp_is_known_as_well(
    keeper: Keeper, server: LinuxServer
) -> None:
    await keeper.take(trust=True)
    taken = await keeper.take(trust=True)
    write_gauge(server, 2)
    assert str(await seen(keeper, taken)) == ""
    server.append("/etc/gauge/tide.conf", "every = 5\n")
    assert str(await seen(keeper, taken)) == "changed /etc/gauge/tide.conf"


async def test_what_is_kept_tells_neither_names_nor_contents_and_apart_nothing_of_secrets(
    keeper: Keeper, server: LinuxServer
) -> None:
    taken = await keeper.take(apart=True)
    kept = str(blinded(taken.plain, keeper.vault.secret))
    assert "gauge" not in kept
    assert all(
        document.digest not in kept
        for document in await documents(keeper, taken)
        if document.digest
    )
    server.append("/etc/shadow", "mate:!:20500:0:99999:7:::\n")
    assert str(await seen(keeper, taken, with_secrets=False)) == ""
    whole = await keeper.take()
    server.append("/etc/shadow", "bosun:!:20500:0:99999:7:::\n")
    assert str(await seen(keeper, whole)) == "changed /etc/shadow"


async def documents(keeper: Keeper, taken: Taken) -> list[Document]:
    reader = await keeper.reader(taken)
    return [document for part in taken.head.parts async for document in reader.documents(part)]


def test_a_long_note_names_some() -> None:
    found = Difference(
        new=[f"/etc/{number}" for number in range(9)], changed=["/etc/a\x1b"], gone=0
    )
    assert (
        str(found) == "changed /etc/a\\x1b; new /etc/0, /etc/1, /etc/2, /etc/3, /etc/4 and 4 more"
    )
