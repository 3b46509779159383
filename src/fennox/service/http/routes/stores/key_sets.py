"""Key sets: passphrases, custody, and which service sweeps."""

from __future__ import annotations

from fastapi import Request
from pydantic import SecretStr

from fennox.catalogue.models.stores import StoreRow
from fennox.core.errors import BadInput, Conflict
from fennox.core.facts.run_orders import AdoptOrder, RekeyOrder
from fennox.core.format.primitives.hpke import OpeningKey
from fennox.service.access_control import audit
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, Who
from fennox.service.keys import key_sets, passphrases, rekey_run
from fennox.service.keys.key_sets import header_of, key_set_named
from fennox.service.machines.context import Context, named
from fennox.service.stores import adopted_store
from fennox.service.upkeep import store_runs
from fennox.service.views import runs as run_views
from fennox.wire.base import Page
from fennox.wire.stores import (
    AdoptStore,
    CustodyWanted,
    KeySetShown,
    NewPassphrase,
    Rekeyed,
    RekeyWanted,
    TryPassphrase,
    Unlock,
    Withdraw,
)
from fennox.wire.watch.runs import RunShown

router = api_router("key sets")


def _plain(secret: SecretStr | None) -> str | None:
    return secret.get_secret_value() if secret is not None else None


async def _written(
    context: Context, name: str, rows: list[StoreRow], opening: OpeningKey
) -> KeySetShown:
    """After the pins are committed: write the headers into the stores and return the result."""
    away = await key_sets.write_pinned(context, rows, opening)
    async with context.session() as session:
        found = await key_sets.shown(session, await key_set_named(session, name))
    return found.model_copy(update={"away": away})


@router.get("/key-sets")
async def list_key_sets(context: Here) -> Page[KeySetShown]:
    """Key sets with their passphrases: labels and ages, never the passphrases themselves."""
    async with context.session() as session:
        return Page(items=await key_sets.all_shown(session))


@router.post("/key-sets/{name}/passphrases", status_code=201)
async def add_passphrase(
    name: str, wanted: NewPassphrase, request: Request, context: Here, who: Who
) -> KeySetShown:
    """Add a passphrase to a key set, in every store of it."""
    opening = await passphrases.open_with(context, name, _plain(wanted.passphrase), who.name)
    new = wanted.new.get_secret_value()
    further = await passphrases.further_slot(context, name, opening, label=wanted.label, new=new)
    async with context.session() as session:
        keys = await key_set_named(session, name)
        rows = await passphrases.add_passphrase(context, session, keys, opening, further)
        await audit.note(
            session, request, "added a passphrase", "key set", name, label=wanted.label
        )
    return await _written(context, name, rows, opening)


@router.post("/key-sets/{name}/try")
async def try_passphrase(
    name: str, wanted: TryPassphrase, request: Request, context: Here, who: Who
) -> KeySetShown:
    """Try a passphrase; in the result its newest trial shows which one it was."""
    await passphrases.open_with(context, name, _plain(wanted.passphrase), who.name)
    async with context.session() as session:
        await audit.note(session, request, "tried a passphrase of", "key set", name)
        return await key_sets.shown(session, await key_set_named(session, name))


@router.post("/key-sets/{name}/withdraw")
async def withdraw_passphrase(
    name: str, wanted: Withdraw, request: Request, context: Here, who: Who
) -> KeySetShown:
    """Withdraw a passphrase: removes the headers it opens. Somebody with a copied header can still
    open everything until there are new keys.
    """
    opening = await passphrases.open_with(context, name, _plain(wanted.passphrase), who.name)
    async with context.session() as session:
        keys = await key_set_named(session, name)
        rows = await passphrases.withdraw_passphrase(context, session, keys, opening, wanted.which)
        await audit.note(
            session, request, "withdrew a passphrase", "key set", name, which=wanted.which
        )
    return await _written(context, name, rows, opening)


@router.post("/key-sets/{name}/custody")
async def change_custody(
    name: str, wanted: CustodyWanted, request: Request, context: Here, who: Who
) -> KeySetShown:
    """Change custody: the service can open backups (kept), or only a passphrase (apart). Both need
    the passphrase.
    """
    if wanted.passphrase is None:
        raise BadInput(
            "A change of custody needs the passphrase.",
            "So it is certain that somebody knows it.",
            field="passphrase",
        )
    opening = await passphrases.open_with(context, name, _plain(wanted.passphrase), who.name)
    async with context.session() as session:
        keys = await key_set_named(session, name)
        await key_sets.change_custody(context, session, keys, opening, wanted.custody)
        await audit.note(
            session, request, "changed custody", "key set", name, custody=wanted.custody
        )
        return await key_sets.shown(session, keys)


@router.post("/key-sets/{name}/rekey", status_code=202)
async def rekey(
    name: str, wanted: RekeyWanted, request: Request, context: Here, who: Who
) -> Rekeyed:
    """Begin a new generation of keys after a leak; a run for each store seals its backups anew."""
    opening = await passphrases.open_with(context, name, _plain(wanted.passphrase), who.name)
    new = wanted.new.get_secret_value()
    made = await rekey_run.new_generation(
        context, name, opening, new=new, label=wanted.label, suite=wanted.suite
    )
    async with context.session() as session:
        keys = await key_set_named(session, name)
        rows = await rekey_run.begin(
            context, session, keys, opening, made, leave_old=wanted.leave_old
        )
        await audit.note(session, request, "made new keys", "key set", name, label=wanted.label)
    shown = await _written(context, name, rows, made.pair.opening)
    return Rekeyed(key_set=shown, runs=await _rekey_runs(context, name, who.name))


@router.post("/key-sets/{name}/rekey/go-on", status_code=202)
async def go_on_rekeying(name: str, context: Here, who: Who) -> Rekeyed:
    """Reseal backups that an earlier run could not."""
    async with context.session() as session:
        keys = await key_set_named(session, name)
        if keys.generation == 1:
            raise Conflict(f"The key set {name} never got new keys.", "Leave out --go-on.")
        shown = await key_sets.shown(session, keys)
    return Rekeyed(key_set=shown, runs=await _rekey_runs(context, name, who.name))


async def _rekey_runs(context: Context, name: str, by: str) -> list[RunShown]:
    async with context.session() as session:
        rows = await key_sets.stores_of(session, await key_set_named(session, name))
        runs = [
            await store_runs.enqueue_for_store(context, session, RekeyOrder(), row, by)
            for row in rows
        ]
        return [await run_views.fresh(context, session, run) for run in runs]


@router.post("/stores/{name}/hand-over")
async def hand_over(
    name: str, wanted: Unlock, request: Request, context: Here, who: Who
) -> KeySetShown:
    """Make this service the one that sweeps the key set's stores."""
    async with context.session() as session:
        keys = await key_sets.of_store(session, await named(session, StoreRow, name))
    opening = await passphrases.open_with(context, keys.name, _plain(wanted.passphrase), who.name)
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        header = header_of(row).model_copy(update={"sweeper": context.service_id})
        await key_sets.pin(context, session, row, opening, header)
        await audit.note(session, request, "took over the sweep", "store", row.name)
    return await _written(context, keys.name, [row], opening)


@router.post("/stores/adopt", status_code=202)
async def adopt_store(wanted: AdoptStore, request: Request, context: Here, who: Who) -> RunShown:
    """Adopt an existing store: open it and enter its backups into the catalogue."""
    opened = await adopted_store.open_store(context, wanted)
    async with context.session() as session:
        row = await adopted_store.adopt_store(context, session, wanted, opened)
        await audit.note(session, request, "adopted", "store", row.name, address=row.address)
        run = await store_runs.enqueue_for_store(context, session, AdoptOrder(), row, who.name)
        return await run_views.fresh(context, session, run)


@router.post("/stores/{name}/adopt", status_code=202)
async def adopt_backups(name: str, context: Here, who: Who) -> RunShown:
    """Enter a known store's unknown backups into the catalogue."""
    async with context.session() as session:
        row = await named(session, StoreRow, name)
        run = await store_runs.enqueue_for_store(context, session, AdoptOrder(), row, who.name)
        return await run_views.fresh(context, session, run)
