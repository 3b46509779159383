"""The end of a take that found nothing changed: entered whole in one statement, or not at all."""

from __future__ import annotations

import secrets
from types import SimpleNamespace
from typing import Any, cast

import pytest
from sqlalchemy import delete, select, text, update
from sqlalchemy.exc import IntegrityError

from fennox.catalogue.models.backups import Backup, Copy
from fennox.catalogue.models.runs import Run
from fennox.catalogue.models.systems import StateRow, System
from fennox.core.facts.run_orders import TakeOrder
from fennox.core.facts.run_results import TakeResult
from fennox.core.format.manifest import Certificate, Finding, PartHeld
from fennox.core.time import stamp
from fennox.engine.takes.take_order import Taken
from fennox.service.machines.context import Context
from fennox.service.runs import claims, new_runs, queue
from fennox.service.runs.claims import Claimant
from fennox.service.runs.journal import CatalogueJournal
from fennox.service.runs.queue import Lease
from fennox.service.takes.unchanged_take import Ending, enter
from tests.service.contexts import START, add_backup, add_routine, add_store, add_system

CENSUS = {"accounts": ["root", "harbour"], "files": ["/etc/ferry"]}


class Night:
    """A system with a backup, and a take of a routine that is going on."""

    def __init__(self, context: Context) -> None:
        self.context, self.new = context, secrets.token_hex(16)

    async def begin(self) -> Lease:
        context = self.context
        self.store = await add_store(context)
        self.system = await add_system(context, "web-9")
        self.routine = await add_routine(context, self.store)
        self.before = await add_backup(
            context,
            self.system,
            self.store,
            START,
            1,
            census=CENSUS,
            documents=31,
            size=4711,
            new_bytes=99,
            parts=[PartHeld(name="settings", documents=31, bytes=4711)],
            held=True,
            held_because="kept",
            note="first",
            findings=[Finding(severity="note", code="x", text="x")],
            left_out=["/home"],
            certificates=[Certificate(document="/c", subject="CN=c", until=0)],
            expired=True,
        )
        async with context.session() as session:
            session.add(
                StateRow(
                    system_id=self.system,
                    backup_id=self.before,
                    key_set="k" * 32,
                    generation=1,
                    parts={"settings": {"a": "b"}},
                    likeness="old",
                )
            )
            await session.execute(
                update(System).values(differs="changed /etc/x", differs_since=START)
            )
            await new_runs.enqueue(
                session,
                TakeOrder(),
                new_runs.About(
                    system_id=self.system,
                    store_id=self.store,
                    routine_id=self.routine,
                    backup_id=self.new,
                ),
                by="routine nightly",
                now=START,
            )
        async with context.session() as session:
            claimed = await claims.claim(session, Claimant("w"), 30, START)
        assert claimed is not None
        self.lease = claimed.lease
        return claimed.lease

    async def enter(self, sequence: int = 2) -> bool:
        reference = SimpleNamespace(
            previous=SimpleNamespace(backup=self.before),
            backup=self.new,
            name="",
            note="nightly",
            time=stamp(START),
            sequence=sequence,
        )
        taken = SimpleNamespace(
            reference=reference,
            head=SimpleNamespace(reached=SimpleNamespace(account="root")),
            digest="d1",
            written=SimpleNamespace(bytes=512),
            likeness="now",
        )
        ending = Ending(self.store, cast(Taken, taken), 1.5, "Odd.", self.result())
        async with self.context.session(single=True) as session:
            return await enter(session, self.lease, ending, START)

    def result(self) -> TakeResult:
        return TakeResult(
            backup=self.new, documents=31, bytes=4711, new_bytes=512, objects=1, unchanged=True
        )

    async def kept(self) -> dict[str, Any]:
        """Everything that it could have changed."""
        async with self.context.session() as session:
            run = await session.get_one(Run, self.lease.run)
            state = await session.get_one(StateRow, self.system)
            system = await session.get_one(System, self.system)
            steps = await session.execute(
                text("select title, attempt, ended from run_steps order by id")
            )
            lines = await session.execute(text("select level, text from run_log order by id"))
            copies = await session.execute(select(Copy.backup_id, Copy.store_id, Copy.digest))
            return {
                "run": (
                    run.state,
                    run.worker,
                    run.lease_until,
                    run.step,
                    run.documents,
                    run.size,
                    run.odd,
                    run.result,
                ),
                "state": (state.backup_id, state.likeness, state.parts),
                "system": (system.differs, system.differs_since, system.skew),
                "steps": [tuple(step) for step in steps],
                "lines": [tuple(line) for line in lines],
                "copies": {tuple(row) for row in copies},
                "backups": set((await session.execute(select(Backup.id))).scalars()),
            }


async def test_all_of_it_is_entered(context: Context) -> None:
    night = Night(context)
    journal = CatalogueJournal(context, await night.begin())
    await journal.step("Ask the machine")
    await journal.log("info", "as it did")
    await journal.step("Write the record")
    assert await night.enter()
    await journal.close()
    kept = await night.kept()
    assert kept["run"] == ("done", None, None, "Write the record", 31, 4711, "Odd.", night.result())
    assert kept["state"] == (night.new, "now", {"settings": {"a": "b"}})
    assert kept["system"] == ("", None, 1.5)
    assert kept["steps"] == [("Ask the machine", 1, START), ("Write the record", 1, START)]
    assert kept["lines"] == [("info", "as it did")]
    assert (night.new, night.store, "d1") in kept["copies"]
    async with context.session() as session:
        new, old = (
            await session.get_one(Backup, night.new),
            await session.get_one(Backup, night.before),
        )
    own = {
        "id": night.new,
        "run_id": night.lease.run,
        "routine_id": night.routine,
        "note": "nightly",
        "sequence": 2,
        "digest": "d1",
        "new_bytes": 512,
        "unchanged": True,
        "held": False,
        "held_because": "",
        "expired": False,
    }
    of_old = {column.name: getattr(old, column.name) for column in Backup.__table__.columns}
    assert {column.name: getattr(new, column.name) for column in Backup.__table__.columns} == {
        **of_old,
        **own,
    }


async def test_a_step_that_was_told_before_ends_when_the_next_one_begins(context: Context) -> None:
    night = Night(context)
    journal = CatalogueJournal(context, await night.begin())
    await journal.step("Ask the machine")
    async with context.session() as session:
        await queue.owned(session, night.lease)  # which tells it
    assert await night.enter(), "with nothing more to tell"
    await journal.close()
    kept = await night.kept()
    assert kept["steps"] == [("Ask the machine", 1, START)]
    assert kept["run"][3] == "Ask the machine"


async def test_without_a_right_to_the_run_nothing_is_entered(context: Context) -> None:
    night = Night(context)
    journal = CatalogueJournal(context, await night.begin())
    await journal.step("Write the record")
    async with context.session() as session:
        await session.execute(update(Run).values(fence=Run.fence + 1))
    before = await night.kept()
    assert not await night.enter()
    await journal.close()
    assert await night.kept() == before
    assert [title for title, _ in night.lease.book.steps] == ["Write the record"], (
        "it is still to be told"
    )


async def test_when_the_backup_before_is_gone_nothing_is_entered_this_way(context: Context) -> None:
    night = Night(context)
    await night.begin()
    async with context.session() as session:
        await session.execute(delete(Backup).where(Backup.id == night.before))
    before = await night.kept()
    assert not await night.enter()
    assert await night.kept() == before


async def test_a_statement_that_fails_changes_nothing(context: Context) -> None:
    night = Night(context)
    journal = CatalogueJournal(context, await night.begin())
    await journal.step("Write the record")
    before = await night.kept()
    with pytest.raises(IntegrityError, match="a_sequence_number_is_used_once"):
        await night.enter(sequence=1)
    await journal.close()
    assert await night.kept() == before
    assert [title for title, _ in night.lease.book.steps] == ["Write the record"], (
        "it is still to be told"
    )
