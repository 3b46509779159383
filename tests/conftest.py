"""What all rooms' tests share: cheap keys, a fixed time, a store in a fresh folder."""

from __future__ import annotations

import gc
import os
import secrets
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from fennox import logs
from fennox.core.format import header as headers
from fennox.core.format.primitives.hpke import CLASSIC
from fennox.core.format.slots import Costs
from fennox.engine.backups import opened_store
from fennox.engine.backups.vault import Vault
from fennox.stores.folder import FolderStore
from saltmere import appliance
from tests import programs
from tests.database import database, postgres, second_database

# registered here alone: a session fixture imported by several modules is set up for each of them
__all__ = ["database", "postgres", "second_database"]

PASSPHRASE = "grey gulls over holm island"
CHEAP = Costs(memory=64, passes=1, lanes=1)
NOON = datetime(2026, 3, 1, 12, 0, tzinfo=UTC)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--examples", type=int, default=60, help="of each fuzzing test; `make soak` takes 200,000"
    )
    parser.addoption(
        "--systems", type=int, default=3, help="of the simulated year; `make soak` takes 500"
    )
    parser.addoption(
        "--disturbed",
        type=float,
        default=8,
        help="seconds of kills at random; `make soak` takes 1,800",
    )
    parser.addoption(
        "--points",
        type=int,
        default=27,
        help="every how manyth verb to die at; `make soak` takes all",
    )
    parser.addoption(
        "--chaos",
        type=float,
        default=20,
        help="seconds of faults at random; `scripts/chaos` takes 3,600",
    )
    parser.addoption(
        "--faults", default="", help="of the random ones, only these: hung_line,full_store"
    )
    parser.addoption(
        "--kills",
        type=int,
        default=3,
        help="how often the kill tests kill; `make soak` takes hundreds",
    )
    parser.addoption(
        "--requests",
        type=int,
        default=1,
        help="of each operation of the API, good and bad, in a round",
    )
    parser.addoption(
        "--requests-for", type=float, default=0, help="seconds of rounds; `make soak` takes 3,600"
    )
    parser.addoption(
        "--crowds",
        action="store_true",
        help="hold how quickly others are answered; `make soak` does",
    )


def pytest_configure(config: pytest.Config) -> None:
    """Before any test module is read: what is tested how often is fixed where a test is
    declared.
    """
    # a busy machine is slow, and no test is about speed
    settings.register_profile(
        "unhurried",
        deadline=None,
        suppress_health_check=[HealthCheck.too_slow],
        max_examples=config.getoption("--examples"),
    )
    settings.load_profile("unhurried")
    # as the service logs: structlog's own way prints every local variable, which takes seconds
    logs.start("text")


@pytest.fixture(scope="session", autouse=True)
def appliances_are_forked() -> Iterator[None]:
    """Each would import for seconds what another one has imported before."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(appliance, "start_process", programs.start_module)
        yield


def pytest_collection_finish() -> None:
    """What stays for the whole run is not searched for garbage again and again."""
    gc.collect()
    gc.freeze()
    programs.seldom_collect()


@pytest.fixture(scope="session", autouse=True)
def seasoned(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Of whole runs alone: for a few tests it costs more than it spares."""
    if "PYTEST_XDIST_WORKER" in os.environ:
        from tests.seasoning import season

        season(request.getfixturevalue("postgres"), tmp_path_factory.mktemp("first"))


@pytest.fixture
def step(request: pytest.FixtureRequest) -> int:
    """Every how manyth verb to die at; 1: at all of them."""
    return int(request.config.getoption("--points"))


@pytest.fixture
def anyio_backend() -> str:
    return "asyncio"


def fixed_now() -> datetime:
    return NOON


@pytest.fixture
def store_folder(tmp_path: Path) -> Path:
    folder = tmp_path / "store"
    folder.mkdir()
    return folder


@pytest.fixture
async def vault(store_folder: Path) -> Vault:
    return await make_vault(store_folder)


async def make_vault(folder: Path) -> Vault:
    keys = headers.new_keys(secrets.token_hex(16), 1, CLASSIC, secrets.token_bytes)
    slot = headers.new_slot(
        keys,
        PASSPHRASE,
        label="safe",
        since="20260301T120000Z",
        costs=CHEAP,
        random=secrets.token_bytes,
    )
    return await opened_store.create(
        FolderStore(folder), keys, sweeper=secrets.token_hex(16), slots=[slot], now=fixed_now
    )
