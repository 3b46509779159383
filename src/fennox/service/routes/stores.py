"""Stores and logins."""

from __future__ import annotations

import secrets

from fastapi import APIRouter, Request
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Backup, Copy, KeySet, Login, Sheet, StoreRow, System
from fennox.core.errors import BadInput, Conflict, FennoxError
from fennox.core.format import header as headers
from fennox.service import audit, storekeeping
from fennox.service.context import Context, named
from fennox.service.routes.session import Here
from fennox.wire.base import Page
from fennox.wire.stores import LoginChange, LoginShown, NewLogin, NewStore, SlotShown, StoreCheck, StoreShown, StoreTest

router = APIRouter(tags=["stores"])


async def _shown(context: Context, session: AsyncSession, row: StoreRow, stores: list[StoreRow]) -> StoreShown:
    keys = await session.get_one(KeySet, (row.key_set, row.generation))
    header = headers.decode(row.header.encode())
    held = await session.execute(
        select(func.count(), func.max(Backup.time)).select_from(Copy).join(Backup).where(Copy.store_id == row.id)
    )
    count, newest = held.one()
    warnings = storekeeping.warnings(row, stores, keys.custody)
    space = None
    try:
        space = await context.store_at(row.address).space()
    except FennoxError as error:
        warnings.insert(0, str(error))
    return StoreShown(
        id=row.id,
        name=row.name,
        address=row.address,
        key_set=keys.name,
        custody=keys.custody,
        suite=header.suite,
        generation=row.generation,
        plain_names=header.plain_names,
        passphrases=[SlotShown(id=slot.id, label=slot.label, since=slot.since) for slot in header.slots],
        created=row.created,
        backups=count,
        newest=newest,
        free=space.free if space else None,
        total=space.total if space else None,
        warnings=warnings,
    )


async def _all(session: AsyncSession) -> list[StoreRow]:
    return list((await session.execute(select(StoreRow).order_by(StoreRow.name))).scalars())


@router.get("/stores")
async def list_stores(context: Here) -> Page[StoreShown]:
    """All stores."""
    async with context.session() as session:
        rows = await _all(session)
        return Page(items=[await _shown(context, session, row, rows) for row in rows])


@router.post("/stores", status_code=201)
async def add_store(wanted: NewStore, request: Request, context: Here) -> StoreShown:
    """Make a store in an empty folder."""
    async with context.session() as session:
        row = await storekeeping.add(context, session, wanted)
        await audit.note(session, request, "added", "store", row.name, address=row.address)
        await session.flush()
        return await _shown(context, session, row, await _all(session))


@router.get("/stores/{name}")
async def show_store(name: str, context: Here) -> StoreShown:
    """One store."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        return await _shown(context, session, row, await _all(session))


@router.post("/stores/{name}/test")
async def test_store(name: str, context: Here) -> StoreTest:
    """Prove a store: list, write, read back, refuse to overwrite, delete, and open its header."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        tested = await storekeeping.test(context.store_at(row.address))
        if tested.passed:
            try:
                await context.vault(session, row)
            except FennoxError as error:
                check = StoreCheck(title="The header is ours", passed=False, detail=str(error))
            else:
                check = StoreCheck(title="The header is ours", passed=True, detail="as pinned")
            tested = StoreTest(passed=check.passed, checks=[*tested.checks, check])
        return tested


async def _login(session: AsyncSession, row: Login) -> LoginShown:
    used = await session.execute(select(func.count()).select_from(System).where(System.login_id == row.id))
    return LoginShown(
        id=row.id,
        name=row.name,
        account=row.account,
        proves_by=row.proves_by,
        changed=row.changed,
        used_by=used.scalar_one(),
    )


@router.get("/logins")
async def list_logins(context: Here) -> Page[LoginShown]:
    """All logins, without their secrets."""
    async with context.session() as session:
        rows = (await session.execute(select(Login).order_by(Login.name))).scalars()
        return Page(items=[await _login(session, row) for row in rows])


@router.post("/logins", status_code=201)
async def add_login(wanted: NewLogin, request: Request, context: Here) -> LoginShown:
    """Keep a login; its secret is sealed under the service's key file."""
    async with context.session() as session:
        if (await session.execute(select(Login).where(Login.name == wanted.name))).first() is not None:
            raise Conflict(f"The login {wanted.name} is already there.", "Change it, or choose another name.")
        row = Login(id=secrets.token_hex(16), name=wanted.name, account=wanted.account, changed=context.now(),
                    proves_by="", sealed_secret=b"")  # fmt: skip
        _set_secret(context, row, wanted)
        session.add(row)
        await audit.note(session, request, "added", "login", row.name, account=row.account)
        return await _login(session, row)


@router.patch("/logins/{name}")
async def change_login(name: str, wanted: LoginChange, request: Request, context: Here) -> LoginShown:
    """Change a login in one place, for everything that uses it."""
    async with context.session() as session:
        row = await named(session, Login, name)
        if wanted.account is not None:
            row.account = wanted.account
        if wanted.password is not None or wanted.private_key is not None:
            _set_secret(context, row, wanted)
        row.changed = context.now()
        await audit.note(session, request, "changed", "login", row.name)
        return await _login(session, row)


@router.delete("/logins/{name}", status_code=204)
async def remove_login(name: str, request: Request, context: Here) -> None:
    """Remove a login that nothing uses."""
    async with context.session() as session:
        row = await named(session, Login, name)
        users = (await session.execute(select(System.name).where(System.login_id == row.id))).scalars().all()
        sheets = (await session.execute(select(Sheet.id).where(Sheet.target_login_id == row.id))).scalars().all()
        if users or sheets:
            what = f"the systems {', '.join(users)}" if users else f"{len(sheets)} run sheets"
            raise Conflict(f"The login {row.name} is used by {what}.", "Give them another login first.")
        await session.delete(row)
        await audit.note(session, request, "removed", "login", row.name)


def _set_secret(context: Context, row: Login, wanted: NewLogin | LoginChange) -> None:
    if (wanted.password is None) == (wanted.private_key is None):
        raise BadInput("Give either a password or a private key.", "Use --password-file or --key.", field="password")
    secret = wanted.private_key if wanted.private_key is not None else wanted.password
    assert secret is not None
    row.proves_by = "key" if wanted.private_key is not None else "password"
    row.sealed_secret = context.keyfile.seal(secret.get_secret_value().encode(), f"logins|{row.id}|secret")
