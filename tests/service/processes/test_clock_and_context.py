"""Given time, addresses, and a database that remembers by which clock it lives."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest

from fennox.catalogue.models.systems import Login
from fennox.core.errors import BadInput, MendSettings
from fennox.links.base import parse_address
from fennox.service.foundation import key_file
from fennox.service.foundation.clock import SimulatedClock, real_now
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import open_context
from fennox.service.machines.login_uses import Use
from saltmere.clock import ClockServer, Follower
from saltmere.linux import LinuxServer
from tests.service.running import until

KEPT = [(0, False), (60, True)]
NOON = datetime(2026, 3, 1, 12, tzinfo=UTC)


def test_a_simulated_clock_stands_jumps_and_goes(tmp_path: Path) -> None:
    server = ClockServer(tmp_path / "clock", NOON.timestamp(), 0)
    clock, device = SimulatedClock(tmp_path / "clock"), Follower(tmp_path / "clock")
    assert clock.now() == NOON == clock.now()
    server.set(NOON.timestamp() + 86400, 0)
    until(lambda: clock.now().day == 2, "the clock has jumped")
    until(lambda: abs(device.now() - NOON.timestamp() - 86400) < 1, "the devices follow")
    server.set(NOON.timestamp(), 1000)
    until(lambda: (clock.now() - NOON).total_seconds() > 100, "the clock goes on")
    server.close()


def test_a_clock_that_does_not_answer_is_told(tmp_path: Path) -> None:
    with pytest.raises(MendSettings, match="No clock answers"):
        SimulatedClock(tmp_path / "nobody")


async def test_a_database_keeps_to_the_clock_it_began_with(database: str, tmp_path: Path) -> None:
    settings = Settings(database=database, state=tmp_path / "state")
    keys = key_file.load(settings.state)
    first = await open_context(settings, real_now, keys, simulated=True)
    again = await open_context(settings, real_now, keys, simulated=True)
    assert first.service_id == again.service_id
    with pytest.raises(MendSettings, match="lives by a simulated clock"):
        await open_context(settings, real_now, keys, simulated=False)
    for context in (first, again):
        await context.engine.dispose()


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("10.1.2.3", "10.1.2.3:22"),
        ("10.1.2.3:2222", "10.1.2.3:2222"),
        ("web.saltmere.example:443", "web.saltmere.example:443"),
        ("[fd00::1]:2222", "[fd00::1]:2222"),
        ("fd00::1", "[fd00::1]:22"),
    ],
)
def test_addresses_with_and_without_port(text: str, shown: str) -> None:
    assert str(parse_address(text, 22)) == shown


@pytest.mark.parametrize(
    "text",
    ["", ":22", "host:", "host:0", "host:70000", "host:ssh", "a b:22", "root@host:22", "a/b"],
)
def test_what_is_no_address_is_refused(text: str) -> None:
    with pytest.raises(BadInput):
        parse_address(text, 22)


def test_the_key_file_is_made_once_and_only_its_owner_can_read_it(tmp_path: Path) -> None:
    first = key_file.load(tmp_path / "state")
    sealed = first.seal(b"x", "a|b|c")
    assert key_file.load(tmp_path / "state").open(sealed, "a|b|c") == b"x"
    assert (tmp_path / "state/service.key").stat().st_mode & 0o777 == 0o600
    (tmp_path / "state/service.key").write_bytes(b"short")
    with pytest.raises(MendSettings, match="not a key file"):
        key_file.load(tmp_path / "state")


@pytest.mark.parametrize(("seconds", "same"), KEPT)
async def test_takes_and_looks_share_connections_where_that_is_wanted(
    seconds: float,
    same: bool,
    database: str,
    tmp_path: Path,
    server: LinuxServer,
    key_pair: tuple[str, str],
) -> None:
    settings = Settings(
        database=database, state=tmp_path / "state", weak_slots=True, keep_connections=seconds
    )
    context = await open_context(settings, real_now, key_file.load(settings.state), simulated=False)
    sealed = context.keyfile.seal(key_pair[0].encode(), "logins|quay|secret")
    login = Login(
        id="quay", name="quay", account="root", proves_by="key", sealed_secret=sealed, become=""
    )
    kind, use = (
        context.kinds.kind("linux-server")[0],
        Use(login, f"{server.host}:{server.port}", server.host_key),
    )
    first = await context.machines.connect(kind, use, kept=True)
    await first.close()
    second = await context.machines.connect(kind, use, kept=True)
    assert (second is first) is same
    await second.close()
    proof = await context.machines.connect(kind, use)  # of a restore, say: always a new one
    assert proof is not second
    await proof.close()
    await context.close()
