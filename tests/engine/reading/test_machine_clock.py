"""The clock of a machine against ours: as seconds, as ISO 8601, and as nothing that can be read."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from fennox.core.errors import FarSideFailed
from fennox.core.kind_files.loading import load
from fennox.core.kinds.model import Kind
from fennox.engine.backups.vault import Now, Vault
from fennox.engine.reading.inquiry import inquiring
from fennox.engine.reading.machine_clock import skew
from fennox.links.base import Credential
from saltmere.linux import LinuxServer
from tests.core.test_compare import KIND
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_linux_server import Install, place_of

NOON = datetime(2026, 3, 1, 12, tzinfo=UTC)


def saying(text: str) -> Kind:
    return load(
        KIND
        + f'\n[clock]\nrun = ["echo", "{text}"]\nvalue = {{ in = "clock", regex = \'(.+)\' }}\n'
    )


@pytest.fixture
def server(install: Install) -> LinuxServer:
    return install("web-9")


@pytest.mark.parametrize(
    ("said", "seconds"),
    [
        ("1772366700", 300),
        ("1772366399.5", -0.5),
        ("2026-03-01T12:00:00+01:00", -3600),
        ("2026-03-01 11:59:00", -60),
    ],
)
async def test_how_far_it_is_off(
    vault: Vault, server: LinuxServer, key_pair: tuple[str, str], said: str, seconds: float
) -> None:
    keeper = Keeper(
        vault, "linux-server", place_of(server), Credential("root", private_key=key_pair[0]), {}
    )
    link = await keeper.connect(keeper.place)

    async def ahead(kind: Kind, now: Now) -> float | None:
        async with inquiring(link, kind, {}, [], stamps=False, now=now) as inquiry:
            await inquiry.read()
            return await skew(kind, link, {}, now, inquiry)

    assert await ahead(saying(said), lambda: NOON) == seconds
    assert await ahead(load(KIND), lambda: NOON) is None
    now = await ahead(keeper.kind, lambda: datetime.now(UTC))
    assert now is not None
    assert timedelta(seconds=abs(now)) < timedelta(seconds=30), "it is this machine's own clock"
    with pytest.raises(FarSideFailed, match="does not report its time"):
        await ahead(saying("half past nine"), lambda: NOON)
    await link.close()
