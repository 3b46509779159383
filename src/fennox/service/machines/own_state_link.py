"""The service's own state as a system like any other. The link reads all tables in one snapshot
(PostgreSQL's ``repeatable read``), so that a backup is consistent while the service works. Secrets
leave the database only sealed to the key sets (HPKE, RFC 9180): a rebuilt service opens them with a
passphrase; a thief of the database or its copies cannot.
"""

from __future__ import annotations

import base64
import json
from collections.abc import AsyncGenerator, AsyncIterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from pydantic import BaseModel
from sqlalchemy import Table, select, text
from sqlalchemy.ext.asyncio import AsyncConnection, AsyncEngine

from fennox import __version__
from fennox.catalogue import schema
from fennox.catalogue.models.backups import Backup, Copy, PendingNote, Removal
from fennox.catalogue.models.base import Base
from fennox.catalogue.models.concerns import AlertRoute, ConcernRow
from fennox.catalogue.models.drops import DropAccount, DropSettings
from fennox.catalogue.models.people import Audit, Passkey, RecoveryCode, User
from fennox.catalogue.models.runs import DeploymentRow, Routine, Run, RunLog, RunStep, SheetRow
from fennox.catalogue.models.service import ClockAcceptance, ServiceState
from fennox.catalogue.models.stores import (
    KeySet,
    SealedSecret,
    StoreAnchor,
    StoreDamage,
    StoreRow,
    StoreSpace,
    Trial,
)
from fennox.catalogue.models.systems import HandedIn, KindRow, Login, LoginPlace, Site, System
from fennox.core.errors import FarSideFailed
from fennox.core.facts import run_orders, run_results
from fennox.core.format.primitives import canonical
from fennox.links.base import Answer, SecondLink

PRODUCT = "fennox"
ADDRESS = "this service"
_ROWS = 500  # rows read at a time
_LONGEST = "1h"  # time the snapshot may stay open while writing to a slow store


# a row of any table; only the table's definition knows its columns
Row = dict[str, Any]


@dataclass(frozen=True)
class KeptTable:
    """A table of the own state: rows ordered with new ones last, without
    machine-specific columns.
    """

    model: type[Base]
    order: tuple[str, ...]
    without: frozenset[str] = frozenset()

    @property
    def table(self) -> Table:
        found = self.model.__table__
        assert isinstance(found, Table)
        return found


KEPT = {
    item.table.name: item
    for item in (
        KeptTable(ServiceState, ("one",), frozenset({"setup_code"})),
        KeptTable(User, ("created", "id"), frozenset({"sealed_totp"})),
        KeptTable(RecoveryCode, ("user_id", "hash")),
        KeptTable(Passkey, ("created", "id")),
        KeptTable(
            KeySet,
            ("id", "generation"),
            frozenset({"sealed_write_secret", "sealed_opening_key"}),
        ),
        KeptTable(Login, ("name",), frozenset({"sealed_secret"})),
        KeptTable(LoginPlace, ("at", "login_id", "address", "key")),
        KeptTable(SealedSecret, ("what", "key_set", "generation")),
        KeptTable(StoreRow, ("created", "id")),
        KeptTable(ClockAcceptance, ("name",)),
        KeptTable(Removal, ("id",)),
        KeptTable(Trial, ("key_set", "slot")),
        KeptTable(System, ("created", "id")),
        KeptTable(DropSettings, ("one",), frozenset({"sealed_host_key", "sealed_certificate_key"})),
        KeptTable(DropAccount, ("made", "system_id")),
        KeptTable(HandedIn, ("system_id", "document"), frozenset({"sealed"})),
        KeptTable(KindRow, ("name", "version")),
        KeptTable(Routine, ("created", "id")),
        KeptTable(
            Site,
            ("name",),
            frozenset({"seen", "connected", "machine", "version", "key", "skew"}),
        ),
        KeptTable(ConcernRow, ("key",)),
        KeptTable(AlertRoute, ("created", "id"), frozenset({"sealed_secret", "sealed_address"})),
        KeptTable(Backup, ("time", "id")),
        KeptTable(Copy, ("number",)),
        KeptTable(PendingNote, ("id",)),
        KeptTable(StoreDamage, ("id",)),
        KeptTable(StoreSpace, ("at", "store_id")),
        KeptTable(StoreAnchor, ("store_id",)),
        KeptTable(Audit, ("id",)),
        KeptTable(SheetRow, ("created", "id")),
        KeptTable(DeploymentRow, ("created", "id")),
        KeptTable(
            Run,
            ("created", "id"),
            frozenset(
                {
                    "worker",
                    "lease_until",
                    "worker_key",
                    "sealed_opening_key",
                    "idempotency_key",
                    "lane",
                }
            ),
        ),
        KeptTable(RunStep, ("id",)),
        KeptTable(RunLog, ("id",)),
    )
}
SCHEMA = "schema"  # the document with the tables' schema version
LEFT_OUT = frozenset(
    {
        "tokens",
        "challenges",
        "approvals",
        "sign_in_failures",
        "workers",
        "alerts",
        "states",
        "estate_counts",
    }
)
"""Tables about this process and sign-ins only, or that the next take fills again."""


class OwnState:
    """A link to the service itself: ``/about`` returns its identity, ``/tables/<name>`` a table as
    JSON.
    """

    def __init__(self, engine: AsyncEngine, service_id: str) -> None:
        self._engine = engine
        self._service_id = service_id
        self._snapshot: AsyncConnection | None = None
        self.beside: SecondLink | None = None

    @property
    def fingerprint(self) -> str:
        return ""

    @property
    def until(self) -> datetime | None:
        return None

    @property
    def secrets(self) -> Mapping[str, str | None]:
        return {}

    async def request(
        self, method: str, path: str, *, json: object = None, limit: float = 60
    ) -> Answer:
        if (method, path) != ("GET", "/about"):
            raise FarSideFailed(
                f"Fennox itself does not answer to {method} {path}.", "Fix the kind file."
            )
        about = {
            "service": self._service_id,
            "product": PRODUCT,
            "version": __version__,
            "name": PRODUCT,
        }
        return Answer(200, canonical.dump_value(about))

    async def download(self, method: str, path: str) -> AsyncGenerator[bytes, None]:
        if (method, path) == ("GET", f"/tables/{SCHEMA}"):
            yield (
                canonical.dump_value([{"schema": schema.NUMBER}])
                .replace(b"[{", b"[\n{")
                .replace(b"}]", b"}\n]\n")
            )
            return
        kept = KEPT.get(path.removeprefix("/tables/"))
        if method != "GET" or kept is None:
            raise FarSideFailed(
                f"Fennox itself does not answer to {method} {path}.", "Fix the kind file."
            )
        columns = [column for column in kept.table.columns if column.name not in kept.without]
        query = select(*columns).order_by(*(kept.table.columns[name] for name in kept.order))
        connection = await self._connection()
        rows = await connection.stream(query.execution_options(yield_per=_ROWS))
        before = b"[\n"
        async for batch in rows.partitions():
            lines = [canonical.dump_value(_plain(row._asdict())) for row in batch]
            yield before + b",\n".join(lines)
            before = b",\n"
        yield b"\n]\n" if before == b",\n" else b"[]\n"

    async def upload(
        self, method: str, path: str, content: AsyncIterator[bytes], *, limit: float = 600
    ) -> Answer:
        raise FarSideFailed(
            "Nothing is written to Fennox itself.", "Use `fennox rebuild` on an empty machine."
        )

    async def _connection(self) -> AsyncConnection:
        if self._snapshot is None:
            made = await self._engine.connect()
            self._snapshot = await made.execution_options(
                isolation_level="REPEATABLE READ", postgresql_readonly=True
            )
            await made.execute(
                text(f"set local idle_in_transaction_session_timeout = '{_LONGEST}'")
            )
        return self._snapshot

    async def close(self) -> None:
        if self._snapshot is not None:
            await self._snapshot.rollback()
            await self._snapshot.close()
            self._snapshot = None


def _plain(row: Row) -> Row:
    return {name: _plain_value(value) for name, value in row.items()}


def _plain_value(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.isoformat()
    if isinstance(value, bytes):
        return base64.b64encode(value).decode("ascii")
    if isinstance(value, list):
        return [_plain_value(one) for one in value]
    return value.model_dump(mode="json") if isinstance(value, BaseModel) else value


def parse_row(kept: KeptTable, line: bytes) -> Row:
    """A row from a backup, without columns unknown to this version."""
    row = json.loads(line)
    if kept.model is Run and row.get("result"):
        row["order"] = run_orders.of_before(row["kind"], row["order"])
        row["result"] = run_results.of_before(row["kind"], row["result"])
    return {
        name: _typed(kept.table.columns[name], value)
        for name, value in row.items()
        if name in kept.table.columns
    }


def _typed(column: Any, value: Any) -> Any:
    if value is None:
        return None
    if column.type.python_type is datetime:
        return datetime.fromisoformat(value)
    return base64.b64decode(value) if column.type.python_type is bytes else value
