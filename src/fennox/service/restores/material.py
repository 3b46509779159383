"""Inputs of a restore: the backup, its reader, and the logins."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy import select

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.stores import StoreRow
from fennox.catalogue.models.systems import Login, System
from fennox.engine.backups.backup_reader import BackupReader
from fennox.engine.journal import Journal
from fennox.service.backups.copies import best_copy
from fennox.service.keys import passphrase_relay
from fennox.service.machines.context import Context
from fennox.service.machines.routes_to_machines import Way, way_to
from fennox.service.runs import queue
from fennox.service.runs.queue import Lease
from fennox.stores.whole import WholeObjects

LOGIN_AFTER = (
    "the login was changed after the backup was taken; the password valid then may be needed"
)


@dataclass
class Material:
    """Inputs for drafting and executing."""

    system: System
    spare: System | None  # the target, if that is an enrolled spare
    backup: Backup
    store: StoreRow
    login: Login
    target_login: Login
    reader: BackupReader

    @property
    def way(self) -> Way:
        """To the target."""
        return way_to(self.spare or self.system)


async def gather(
    context: Context,
    lease: Lease,
    journal: Journal,
    backup_id: str,
    login_id: str,
    after_login_id: str | None = None,
) -> Material:
    """``after_login_id``: of the login afterwards; None: the system's."""
    async with context.session() as session:
        run = await queue.owned(session, lease)
        backup = await session.get_one(Backup, backup_id)
        system = await session.get_one(System, backup.system_id)
        written = await session.get_one(System, run.system_id)
        spare = written if written.id != system.id else None
        login = await session.get_one(Login, after_login_id or system.login_id)
        target_login = await session.get_one(Login, login_id)
    store, vault, record = await best_copy(context, backup)
    if vault.locked:
        vault.unlock(await passphrase_relay.wait_for_key(context, lease, store, journal))
    index = context.stores.index(store.id)
    await index.refresh(vault)
    vault.store = WholeObjects(vault.store)
    reader = BackupReader(vault, index, record)
    return Material(system, spare, backup, store, login, target_login, reader)


async def said_of_secrets(context: Context, secrets: Mapping[str, str]) -> dict[str, str]:
    """The login of each secret setting, in words; empty: there is none."""
    async with context.session() as session:
        rows = await session.execute(select(Login).where(Login.name.in_(set(secrets.values()))))
        logins = {row.name: said_of_login(row) for row in rows.scalars()}
    return {setting: logins.get(name, "") for setting, name in secrets.items()}


def said_of_login(login: Login) -> str:
    return f"{login.name} ({login.account}), set {login.changed:%Y-%m-%d %H:%M:%S} UTC"
