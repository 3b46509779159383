"""A service's context in this process, on a fresh database, by a clock that the test sets."""

from __future__ import annotations

import secrets
from collections.abc import AsyncIterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Routine
from fennox.catalogue.models.stores import KeySet, StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.core.facts.run_orders import (
    AdoptOrder,
    Aim,
    CopyOrder,
    DraftOrder,
    LookOrder,
    RekeyOrder,
    RestoreOrder,
    RunOrder,
    ScrubOrder,
    SweepOrder,
    TakeOrder,
    VerifyOrder,
)
from fennox.core.restoring.sheet import After, Facts, Overwrites, Place, Sheet
from fennox.service.foundation import key_file, session_guard
from fennox.service.foundation.settings import Settings
from fennox.service.machines.context import Context, open_context

START = datetime(2026, 3, 1, 12, tzinfo=UTC)


class SetClock:
    """Stands still until it is set."""

    def __init__(self) -> None:
        self.at = START

    def __call__(self) -> datetime:
        return self.at


@pytest.fixture
def clock() -> SetClock:
    return SetClock()


@pytest.fixture
async def context(
    database: str, tmp_path: Path, clock: SetClock, monkeypatch: pytest.MonkeyPatch
) -> AsyncIterator[Context]:
    settings = Settings(database=database, state=tmp_path / "state", weak_slots=True)
    monkeypatch.setattr(session_guard, "strict", True)
    made = await open_context(settings, clock, key_file.load(settings.state), simulated=True)
    yield made
    await made.engine.dispose()


async def add_store(context: Context, name: str = "attic") -> str:
    """A store's row; nothing is behind it."""
    store = secrets.token_hex(16)
    async with context.session() as session:
        if await session.get(KeySet, ("k" * 32, 1)) is None:
            session.add(
                KeySet(
                    id="k" * 32,
                    generation=1,
                    name="main",
                    custody="kept",
                    suite="x",
                    created=START,
                    sealed_write_secret=b"",
                    sealed_opening_key=None,
                )
            )
        session.add(
            StoreRow(
                id=store,
                name=name,
                address=f"/nowhere/{name}",
                key_set="k" * 32,
                generation=1,
                header="{}",
                header_digest="",
                created=START,
            )
        )
    return store


async def add_system(
    context: Context,
    name: str,
    *,
    site: str = "",
    labels: list[str] | None = None,
    id: str | None = None,
) -> str:
    system = id or secrets.token_hex(16)
    async with context.session() as session:
        login = Login(
            id=secrets.token_hex(16),
            name=f"login-{name}",
            account="root",
            proves_by="key",
            sealed_secret=b"",
            changed=START,
        )
        session.add(login)
        await session.flush()
        session.add(
            System(
                id=system,
                name=name,
                folder=f"{name}-x",
                kind="linux-server",
                address=f"{name}:22",
                login_id=login.id,
                key="SHA256:x",
                site=site,
                labels=labels or [],
                settings={},
                machine=None,
                version=1,
                created=START,
            )
        )
    return system


_AIM = Aim(login="x", address="web-9:22", key="SHA256:x")
ORDERS: dict[str, RunOrder] = {
    order.kind: order
    for order in (
        TakeOrder(),
        LookOrder(),
        DraftOrder(backup="x", target=_AIM),
        RestoreOrder(safety_backup="x", safety_time="2026-06-01T00:00:00Z"),
        CopyOrder(backup="x"),
        ScrubOrder(),
        VerifyOrder(),
        SweepOrder(),
        AdoptOrder(),
        RekeyOrder(),
    )
}
"""Of each kind of run one, for tests to which it does not matter what it is to do."""


async def add_routine(context: Context, store: str, **changes: object) -> str:
    values: dict[str, object] = {
        "id": secrets.token_hex(16),
        "name": "nightly",
        "systems": "all",
        "when": "every day at 02:40",
        "zone": "UTC",
        "store_id": store,
        "ladder": "daily for 3 days, always 1",
        "mode": "on",
        "parts": None,
        "version": 1,
        "created": START,
        "decided_until": START,
    }
    async with context.session() as session:
        session.add(Routine(**{**values, **changes}))
    return str({**values, **changes}["id"])


async def add_backup(
    context: Context, system: str, store: str, time: datetime, sequence: int, **changes: object
) -> str:
    backup = secrets.token_hex(16)
    values: dict[str, object] = {
        "id": backup,
        "system_id": system,
        "run_id": "r",
        "routine_id": None,
        "name": "",
        "note": "",
        "purpose": "backup",
        "kind": "linux-server",
        "time": time,
        "sequence": sequence,
        "digest": "",
        "parts": [],
        "documents": 1,
        "size": 1,
        "new_bytes": 1,
        "unchanged": False,
        "partial": False,
        "account": "root",
        "machine": {"id": "m", "product": "debian", "version": "12"},
        "census": {},
        "findings": [],
        "left_out": [],
    }
    async with context.session() as session:
        values |= changes
        session.add(Backup(**values))
        await session.flush()
        session.add(Copy(backup_id=values["id"], store_id=store, since=time))
    return str(values["id"])


def sheet_of(name: str, system: str, backup: str, version: int = 1) -> Sheet:
    """A run sheet without steps."""
    place = Place(address=f"{name}:22", account="root", key="SHA256:x")
    facts = Facts(
        backup=backup,
        kind="linux-server",
        target_machine="m",
        target_version="12",
        overwrites="",
        target_address=place.address,
        target_key=place.key,
    )
    after = After(
        place=place, login="system", address_because="", account_because="", key_because=""
    )
    return Sheet(
        version=version,
        backup=backup,
        purpose="repair",
        system=system,
        system_name=name,
        kind="linux-server",
        kind_version=1,
        parts=["settings"],
        target=place,
        target_machine="m",
        target_product="debian",
        target_version="12",
        findings=[],
        steps=[],
        overwrites=Overwrites(),
        restarts=[],
        cannot_be_undone=[],
        after=after,
        facts=facts,
        fresh_census={},
    )
