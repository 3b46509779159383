"""Service, database and worker as machines whose clocks go wrong: nothing good is removed, and
takes go on.
"""

from __future__ import annotations

import logging
import os
import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest

from fennox.client.api import ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.stores import NewStore
from fennox.wire.watch.runs import RunShown
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.faked import LIBRARY, FakedService, machines
from tests.service.running import PASSPHRASE, came_to, until

log = logging.getLogger(__name__)

MACHINES = ("service", "database", "worker")


@pytest.fixture
def faked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[FakedService]:
    if LIBRARY is None:
        pytest.skip(
            "SKIPPED: faketime is not installed, so no machine's clock is proved to go wrong"
            " harmlessly"
        )
    with machines(tmp_path, monkeypatch) as (made, _):
        made.start_faked_worker()
        yield made


def records(service: FakedService) -> set[str]:
    """What lies in the stores, read off the disk and not off the catalogue."""
    return {
        f"{store} {path.name}"
        for store in ("attic", "pier")
        for path in (service.folder / store).rglob("*.fxr")
    }


def sql(service: FakedService, *statements: str) -> int:
    with psycopg.connect(service.database.replace("+psycopg", ""), autocommit=True) as database:
        counts = [database.execute(statement.encode()).rowcount for statement in statements]
    return counts[0]


def ready_to_go(service: FakedService) -> int:
    """Half of the backups are marked, and a sweep saw it five days ago: the next one removes
    them.
    """
    return sql(
        service,
        "update backups set expired = true, expired_by = 'mara', expired_at = now() - interval '9"
        " days' where sequence <= 3",
        "update copies set removable_since = now() - interval '5 days' from backups b where b.id ="
        " backup_id and b.expired",
    )


def asked_to_sweep(service: FakedService) -> RunShown:
    """The sweep a person asks for, once the service's own, if one is under way, has ended."""
    with service.client() as client:
        while True:
            try:
                return service.ended(client.sweep("attic", preview=False).id)
            except ProblemError as error:
                if error.slug != "conflict":
                    raise
                until(
                    lambda: not client.runs(kind="sweep", state="active"),
                    "the service's own sweep has ended",
                )


def kept_after_all(service: FakedService) -> None:
    sql(
        service,
        "update backups set expired = false, expired_by = '', expired_at = null",
        "update copies set removable_since = null",
    )


@pytest.mark.long
def test_no_machine_with_a_wrong_clock_costs_a_good_backup(
    faked: FakedService,
    server: LinuxServer,
    key_pair: tuple[str, str],
    request: pytest.FixtureRequest,
) -> None:
    enrol(faked, server, key_pair[0])
    (faked.folder / "pier").mkdir()
    with faked.client() as client:
        client.add_store(
            NewStore(name="pier", address=str(faked.folder / "pier"), passphrase=PASSPHRASE)
        )

        def take() -> str:
            server.write("/etc/motd", os.urandom(4).hex())
            run = faked.ended(client.take(NewTake(system="web-9", store="attic")).id)
            assert run.state == "done", run.reason
            return str(came_to(run, "backup"))

        for _ in range(6):
            backup = take()
            assert faked.ended(client.copy(backup, "pier").id).state == "done"
        sql(
            faked, "update tokens set until = '2099-01-01'"
        )  # else a year ahead they have ended, as they should
        before = records(faked)
        assert len(before) == 12
        signs = "+-" if request.config.getoption("--points") == 1 else random.choice("+-")
        wrong = (
            ("1d", "365d")
            if request.config.getoption("--points") == 1
            else (random.choice(("1d", "365d")),)
        )
        offsets = [f"{sign}{size}" for size in ("60s", *wrong) for sign in signs]
        log.warning("offsets %s", offsets)
        for machine in MACHINES:
            for offset in offsets:
                faked.clocks[machine].set(offset)
                if offset.endswith("60s"):
                    assert client.clocks().believed, "a minute is no difference"
                else:
                    _is_in_doubt(faked, machine, offset)
                faked.clocks[machine].set("+0")
                _agrees_again(faked)
                assert records(faked) >= before, f"{machine} at {offset}"
        until(
            lambda: all("The clocks disagree" not in c.text for c in client.status().concerns),
            "the concern has ended",
        )
        assert ready_to_go(faked) == 3
        swept = asked_to_sweep(faked)
        assert (swept.state, came_to(swept, "records")) == ("done", 3), swept.reason
        assert len(before - records(faked)) == 3, (
            "by clocks that agree they do go, from the store that was swept"
        )


def _is_in_doubt(faked: FakedService, machine: str, offset: str) -> None:
    with faked.client() as client:
        until(lambda: not client.clocks().believed, f"{machine} at {offset} is in doubt")
        until(
            lambda: any("clocks disagree" in c.text for c in client.status().concerns),
            "the concern stands",
        )
        days = (
            {"1d": 1, "365d": 365}[offset[1:]] * (1 if offset[0] == "+" else -1)
            if machine == "service"
            else 0
        )
        client.status()
        apart = client.now() - datetime.now(UTC) - timedelta(days=days)
        assert abs(apart) < timedelta(minutes=1), (
            "ages count by the service's clock, not by that of whoever asks"
        )
        told = faked.fennox("doctor", "clocks")
        assert told.returncode == 5, told.stdout
        named = {
            "service": "PostgreSQL is",
            "database": "PostgreSQL is",
            "worker": "The clock of the worker",
        }
        assert named[machine] in told.stderr, told.stderr
        ready_to_go(faked)
        swept = asked_to_sweep(faked)
        assert (swept.state, swept.problem) == ("failed", "person-needed"), (
            machine,
            offset,
            swept.result,
        )
        assert "Nothing is swept while the clocks disagree" in swept.reason
        run = faked.ended(client.take(NewTake(system="web-9", store="attic")).id)
        assert run.state == "done", (machine, offset, run.reason)
        assert sql(faked, "select 1 from systems where abs(skew) > 60") == 0, (
            "the machine's own clock was right"
        )
        kept_after_all(faked)


def _agrees_again(faked: FakedService) -> None:
    """What a wrong clock has dated is confirmed, as a person would."""
    confirmed = faked.fennox("doctor", "clocks", "--confirm", "--yes")
    assert confirmed.returncode == 0, confirmed.stdout + confirmed.stderr
    with faked.client() as client:
        assert client.clocks().believed
