"""Delivering the opening key to a worker in custody ``apart``: sealed to the worker's key, for one
run, in memory.
"""

from __future__ import annotations

import asyncio
import secrets

from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.stores import StoreRow
from fennox.core.errors import Conflict, NotFound, PassphraseNeeded
from fennox.core.format import header as headers
from fennox.core.format.primitives.hpke import CLASSIC, OpeningKey, SealKey
from fennox.engine.journal import Journal
from fennox.service.foundation.hashing import hashed
from fennox.service.machines.context import Context
from fennox.service.runs import progress_log, queue
from fennox.service.runs.queue import Lease

_WAIT = 600  # seconds a worker waits for a person
_LOOK = 0.3  # seconds between looks


def _info(run_id: str) -> bytes:
    return f"fennox/1|opening key for run|{run_id}".encode()


async def wait_for_key(
    context: Context, lease: Lease, store: StoreRow, journal: Journal
) -> OpeningKey:
    """In the worker: publish a fresh key, wait for a passphrase, and open the delivered key."""
    mine = OpeningKey.generate(CLASSIC, secrets.token_bytes)
    async with context.session() as session:
        run = await queue.owned(session, lease)
        run.worker_key, run.sealed_opening_key = mine.seal_key().raw, None
        run.order = run.order.model_copy(update={"opens": store.id})
        await progress_log.announce(session, run.id)
    await journal.step(f"Wait for the passphrase of the store {store.name}")
    waited = 0.0
    while waited < _WAIT:
        await journal.check()
        async with context.session() as session:
            run = await queue.owned(session, lease)
            sealed = run.sealed_opening_key
            if sealed is not None:
                run.worker_key = run.sealed_opening_key = None
                await progress_log.announce(session, run.id)
        if sealed is not None:
            suite = headers.decode(store.header.encode()).suite
            return OpeningKey(suite, mine.open(sealed, _info(lease.run)))
        await asyncio.sleep(_LOOK)
        waited += _LOOK
    raise PassphraseNeeded(
        "Nobody gave the passphrase within ten minutes.", "Start it again and give the passphrase."
    )


async def unlock(store: StoreRow, passphrase: str) -> OpeningKey:
    """Try a passphrase on the pinned header."""
    header = headers.decode(store.header.encode())
    return await hashed(lambda: header.unlock(passphrase))


async def store_to_open(session: AsyncSession, run: Run) -> StoreRow:
    """The store whose key the run's worker waits for. Raises NotFound."""
    store = await session.get(StoreRow, run.order.opens or "")
    if store is None:
        raise NotFound(
            "The run does not wait for a passphrase.", "Follow it, and give one when it asks."
        )
    return store


async def give(session: AsyncSession, run_id: str, opening: OpeningKey) -> Run:
    """In the service: deliver the opening key only to the worker that holds the run."""
    run = await session.get_one(Run, run_id, with_for_update=True, populate_existing=True)
    if run.worker_key is None:
        raise Conflict(
            "The run does not wait for a passphrase.",
            "Follow it, and give the passphrase when it asks.",
        )
    run.sealed_opening_key = SealKey(CLASSIC, run.worker_key).seal(opening.raw, _info(run.id))
    await progress_log.announce(session, run.id)
    return run
