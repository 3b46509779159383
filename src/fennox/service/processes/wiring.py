"""Wires all rooms together: what ``fennox serve`` and ``fennox worker run`` start."""

from __future__ import annotations

import asyncio
import gc
import signal
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import structlog
from fastapi import FastAPI
from pydantic import ValidationError

from fennox import logs
from fennox.catalogue import schema
from fennox.core.errors import MendSettings
from fennox.engine.backups import opened_store
from fennox.links.base import Credential
from fennox.service.access_control import local_recovery
from fennox.service.concerns import alert_messages
from fennox.service.foundation import key_file
from fennox.service.foundation.notifications import listen
from fennox.service.foundation.settings import Settings
from fennox.service.http import web_server
from fennox.service.own_state import own_backup, rebuild_service
from fennox.service.own_state.own_backup import OwnBackup
from fennox.service.own_state.rebuilt_secrets import Rebuilt
from fennox.service.people import first_administrator
from fennox.service.processes import receiver, reseal
from fennox.service.processes.app import make_app
from fennox.service.processes.process_context import open_process
from fennox.service.processes.scheduler import Scheduler
from fennox.service.processes.worker import RunWorker
from fennox.service.runs import progress_log
from fennox.stores import addresses
from fennox.stores.mounts import mount_of
from fennox.stores.opening import open_store

log: Any = structlog.get_logger()

_SITE_SLOTS = 4  # concurrent runs at sites, in a service without other slots


def read_settings(**given: object) -> Settings:
    """From options, environment and ``fennox.toml``; a wrong one is reported by its name."""
    try:
        return Settings(**{name: value for name, value in given.items() if value is not None})  # type: ignore[arg-type]
    except ValidationError as error:
        first = error.errors()[0]
        name = ".".join(str(step) for step in first["loc"]) or "settings"
        text = str(first["msg"]).removeprefix("Value error, ")
        raise MendSettings(
            f"{name}: {text}.", f"Set FENNOX_{name.upper()} or correct fennox.toml."
        ) from error


def _begin(settings: Settings) -> None:
    """Wait for the database first, while a signal can still end the program immediately."""
    logs.start(settings.log)
    schema.upgrade(
        settings.database, lambda error: log.warning("waiting for the database", reason=error.what)
    )


@dataclass(frozen=True)
class RebuildPlace:
    """A store's address and login, before it is in a catalogue."""

    address: str
    credential: Credential | None
    key: str | None


async def rebuild(
    settings: Settings,
    clock: Path | None,
    place: RebuildPlace,
    passphrase: str,
    backup: str | None,
    confirm: Callable[[OwnBackup], None],
) -> Rebuilt:
    """Rebuild a service into an empty database; ``confirm`` raises if the person declines."""
    logs.start(settings.log)
    await asyncio.to_thread(schema.upgrade, settings.database, patience=0)
    context = await open_process(settings, clock)
    try:
        async with context.session() as session:
            await rebuild_service.must_be_empty(session)
        store = open_store(addresses.parse(place.address), place.credential, place.key)
        try:
            vault = await opened_store.open_with_passphrase(store, passphrase, context.now)
            own = await own_backup.find(vault, backup)
            confirm(own)
            return await rebuild_service.rebuild(
                context, own, str(addresses.parse(place.address)), _known_by(place)
            )
        finally:
            await store.close()
    finally:
        await context.close()


async def recover(
    settings: Settings,
    clock: Path | None,
    name: str,
    password: str,
    *,
    administrator: bool,
    no_approvals: bool,
) -> str:
    """Restore somebody's access, on the service's own machine; the service may be running. Returns
    what was done, as text.
    """
    await asyncio.to_thread(schema.upgrade, settings.database, patience=0)
    _must_hold_a_key(settings)
    context = await open_process(settings, clock)
    try:
        done = await local_recovery.recover(
            context, name, password, administrator=administrator, no_approvals=no_approvals
        )
    finally:
        await context.close()
    return f"{', '.join(done)}.".capitalize()


async def rotate_key(settings: Settings, clock: Path | None, *, forget: bool) -> int:
    """As :func:`fennox.service.processes.reseal.rotate`, on the service's own machine; the service
    may be running.
    """
    await asyncio.to_thread(schema.upgrade, settings.database, patience=0)
    if settings.key_keeper not in ("file", "pkcs11"):
        raise MendSettings(
            "The service's key comes from systemd, and is not ours to write.",
            "Make a new credential: 32 new bytes, then the old ones. docs/security.md shows how.",
        )
    _must_hold_a_key(settings)
    context = await open_process(settings, clock)
    try:
        return await reseal.rotate(context, forget=forget)
    finally:
        await context.close()


def _must_hold_a_key(settings: Settings) -> None:
    """Otherwise a new one would be created, which opens nothing."""
    there = settings.key_keeper.startswith("credential:")
    if not there and not any(
        (settings.state / name).exists() for name in (key_file.NAME, key_file.SEALED)
    ):
        raise MendSettings(
            f"{settings.state} holds no key file.",
            "Run it as the service's account, on its machine.",
        )


def _known_by(place: RebuildPlace) -> str | None:
    """For a folder, the device or share mounted there on this machine."""
    mount = mount_of(Path(place.address)) if place.address.startswith("/") else None
    return mount.identity if mount else place.key


@asynccontextmanager
async def _together(*works: Any) -> AsyncIterator[None]:
    """A context that runs coroutines concurrently and cancels them at its end."""
    tasks = [asyncio.create_task(work) for work in works]
    try:
        yield
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


def look_for_garbage_seldom() -> None:
    """Exclude start-up objects from garbage collection, and collect less often. Modules, models and
    routes live for ever; scanning them blocked the thread for a third of a second, again and again
    while a duty processed ten thousand systems.
    """
    gc.collect()
    gc.freeze()
    # thresholds: objects, and collections of the younger generation
    gc.set_threshold(20_000, 5, 50)


def make_service(settings: Settings, clock: Path | None) -> FastAPI:
    """API, console, scheduler, and a worker in the same process if it has slots."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        context = await open_process(settings, clock, app.state.turns)
        app.state.context = context
        async with context.session() as session:
            code = await first_administrator.new_code(session)
        await alert_messages.seal_addresses(context)
        if code is not None:
            log.info("make the first administrator", link=f"{settings.url}/setup#{code}")
        works = [
            Scheduler(context).run(),
            listen(settings.database, progress_log.CHANNEL, app.state.hub.heard),
            receiver.keep_receiving(context, clock),
        ]
        # runs at a site are carried out by the process its worker is connected to, even if all
        # others run elsewhere
        works.append(
            RunWorker(context, settings.workers or _SITE_SLOTS, near=settings.workers > 0).work()
        )
        look_for_garbage_seldom()
        async with _together(*works):
            log.info("ready", address=settings.url)
            yield
        await context.close()

    return make_app(None, lifespan)


def serve(settings: Settings, clock: Path | None) -> None:
    _begin(settings)
    web_server.run(make_service(settings, clock), settings)


def work(settings: Settings, clock: Path | None) -> None:
    """A separate worker; on SIGTERM or Ctrl C it hands back its runs and ends."""
    _begin(settings)

    async def run() -> None:
        context = await open_process(settings, clock)
        stopped = asyncio.Event()
        for name in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(name, stopped.set)
        look_for_garbage_seldom()
        work = asyncio.create_task(RunWorker(context, settings.workers or 4).work())
        log.info("worker ready")
        await asyncio.wait(
            [work, asyncio.create_task(stopped.wait())], return_when=asyncio.FIRST_COMPLETED
        )
        work.cancel()
        try:
            await work
        except asyncio.CancelledError:
            log.info("worker stopped")
        finally:
            await context.close()

    asyncio.run(run())
