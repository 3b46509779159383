"""What is wrong stands since when, and ends by itself; a mute has an end; one cause is one thing to
be told.
"""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import func, select, text, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.backups import Backup
from fennox.catalogue.models.concerns import Alert, AlertRoute, ConcernRow
from fennox.catalogue.models.runs import Routine, Run, SheetRow
from fennox.catalogue.models.stores import StoreRow, StoreSpace
from fennox.catalogue.models.systems import Login, System
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring.proof import Proof
from fennox.service.concerns import alert_messages, estate_watch, matters, standing_concerns
from fennox.service.machines.context import Context
from fennox.service.processes import due_takes
from tests.service.contexts import (
    ORDERS,
    START,
    SetClock,
    add_backup,
    add_routine,
    add_store,
    add_system,
    sheet_of,
)

DUE = datetime(2026, 3, 2, 2, 40, tzinfo=UTC)


async def standing(context: Context, about: str = "a") -> dict[str, ConcernRow]:
    """What stands about one noun, by the first words of its text."""
    async with context.session() as session:
        await estate_watch.look(context, session)
    async with context.session() as session:
        rows = (
            await session.execute(select(ConcernRow).where(ConcernRow.ended.is_(None)))
        ).scalars()
        return {row.text: row for row in rows if row.about == about}


def told(found: dict[str, ConcernRow], words: str) -> list[ConcernRow]:
    return [row for text, row in found.items() if words in text]


@pytest.fixture
async def store(context: Context) -> str:
    store = await add_store(context)
    async with context.session() as session:  # far away, so that nobody looks for its folder
        await session.execute(update(StoreRow).values(address="sftp://depot.example/fennox"))
    return store


async def test_a_system_without_backup_is_told_since_it_was_enrolled_until_it_has_one(
    context: Context, store: str, clock: SetClock
) -> None:
    system = await add_system(context, "a")
    clock.at = START + timedelta(hours=5)
    (row,) = told(await standing(context), "has no backup")
    assert (row.since, row.severity) == (START, "high")
    await add_backup(context, system, store, clock.at, 1)
    assert told(await standing(context), "has no backup") == []
    async with context.session() as session:
        over = await session.get_one(ConcernRow, row.key)
        assert over.ended == clock.at
    assert told(await standing(context), "Only one copy")


async def test_a_due_time_that_nobody_decided_is_missed_and_two_without_backup_are_late(
    context: Context, store: str, clock: SetClock
) -> None:
    system = await add_system(context, "a")
    await add_routine(context, store)
    await add_backup(context, system, store, START, 1)
    clock.at = DUE + timedelta(minutes=29)
    found = await standing(context)
    assert (told(found, "was due for"), told(found, "was due twice")) == ([], [])
    clock.at = DUE + timedelta(minutes=31)
    (missed,) = told(await standing(context), "nightly was due for a at 2026-03-02 02:40 UTC")
    assert missed.since == DUE
    await due_takes.decide(context)
    assert told(await standing(context), "was due") == []
    clock.at = DUE + timedelta(days=1, minutes=31)
    (late,) = told(await standing(context), "was due twice since")
    assert (late.since, late.severity) == (START, "high")
    await add_backup(context, system, store, clock.at, 2)
    assert told(await standing(context), "was due twice since") == []


@pytest.mark.parametrize("changes", [{"mode": "off"}, {"mode": "by hand"}, {"systems": "name=b"}])
async def test_what_no_routine_takes_is_neither_late_nor_missed(
    context: Context, store: str, clock: SetClock, changes: dict[str, str]
) -> None:
    system = await add_system(context, "a")
    await add_routine(context, store, **changes)
    await add_backup(context, system, store, START, 1)
    clock.at = DUE + timedelta(days=40)
    found = await standing(context)
    assert told(found, "was due for") + told(found, "was due twice") == []
    assert bool(told(found, "is in no routine")) == ("systems" in changes)


async def test_doubtful_partial_suspended_and_certificates_are_told_with_what_to_do(
    context: Context, store: str, clock: SetClock
) -> None:
    system = await add_system(context, "a")
    await add_routine(context, store)
    soon, past = START + timedelta(days=20), START - timedelta(days=2)
    ends = [
        {"document": f"/etc/{name}.pem", "subject": "CN=x", "until": int(at.timestamp())}
        for name, at in (("soon", soon), ("past", past), ("later", START + timedelta(days=90)))
    ]
    await add_backup(context, system, store, START, 1, certificates=ends)
    await add_backup(
        context, system, store, START, 2, doubtful=True, doubtful_because="the list files is empty"
    )
    async with context.session() as session:
        await session.execute(update(System).values(suspended_because="a restore goes on"))
    found = await standing(context)
    (doubted,) = told(found, "is doubtful: the list files is empty")
    assert "fennox backup clear" in doubted.remedy
    assert [row.severity for row in told(found, "/etc/soon.pem of a expires on 2026-03-21")] == [
        "low"
    ]
    assert [row.severity for row in told(found, "/etc/past.pem of a expired")] == ["high"]
    assert told(found, "later.pem") == []
    (stopped,) = told(found, "No routine takes a: a restore goes on")
    assert "fennox system resume a" in stopped.remedy
    async with context.session() as session:
        await session.execute(update(Backup).values(partial=True))
    assert told(await standing(context), "has no complete backup"), (
        "a partial backup is none to rely on"
    )


async def test_a_store_that_fills_up_is_told_before_it_is_full(
    context: Context, store: str, clock: SetClock
) -> None:
    async with context.session() as session:
        for day in range(10):
            session.add(
                StoreSpace(
                    store_id=store,
                    at=START + timedelta(days=day),
                    objects=day,
                    used=day * 10**9,
                    free=14 * 10**9,
                )
            )
    clock.at = START + timedelta(days=9)
    (full,) = told(await standing(context, "attic"), "will be full in about 14 days")
    assert full.severity == "low"
    async with context.session() as session:
        await session.execute(update(StoreSpace).values(used=5))
    assert told(await standing(context, "attic"), "will be full") == []


async def test_a_mute_lasts_until_its_end_and_what_comes_back_is_told_again(
    context: Context, store: str, clock: SetClock
) -> None:
    system = await add_system(context, "a")
    async with context.session() as session:
        session.add(route("watch"))
    (row,) = told(await standing(context), "has no backup")
    async with context.session() as session:
        assert (
            len(
                (await session.execute(select(Alert).where(Alert.event == "begun"))).scalars().all()
            )
            >= 1
        )
        await session.execute(
            update(ConcernRow).values(muted_until=START + timedelta(days=2), muted_because="quiet")
        )
        await session.execute(update(Alert).values(sent=START))
    await add_backup(context, system, store, START, 1)
    assert told(await standing(context), "has no backup") == []
    async with context.session() as session:
        assert (
            await session.execute(select(Alert).where(Alert.sent.is_(None)))
        ).scalars().all() == []
        await session.execute(update(Backup).values(doubtful=True, doubtful_because="x"))
    clock.at = START + timedelta(days=3)
    (again,) = told(await standing(context), "has no backup")
    assert again.key == row.key
    async with context.session() as session:
        waiting = (await session.execute(select(Alert).where(Alert.sent.is_(None)))).scalars().all()
        assert any(row.key in str(alert.body) for alert in waiting)


def route(name: str, **changes: object) -> AlertRoute:
    values: dict[str, object] = {
        "id": name,
        "name": name,
        "channel": "file",
        "address": "/nowhere/told.jsonl",
        "settings": {},
        "severity": "high",
        "systems": "all",
        "digest": "",
        "mode": "on",
        "created": START,
        "told_until": START,
    }
    return AlertRoute(**{**values, **changes})


async def test_a_store_that_is_away_is_one_message_however_many_systems_fail(
    context: Context, store: str, clock: SetClock
) -> None:
    async with context.session() as session:
        session.add(route("watch"))
        session.add(route("holm", systems="site=holm"))
        session.add(route("off", mode="off"))
    for number in range(30):
        system = await add_system(context, f"s-{number}", site="holm" if number == 0 else "quay")
        await add_backup(context, system, store, START, 1)
    await standing(context)
    async with context.session() as session:
        await session.execute(update(Alert).values(sent=START))
        await session.execute(update(StoreRow).values(stopped_because="depot does not answer."))
        for row in (await session.execute(select(System))).scalars().all():
            session.add(
                Run(
                    id=f"r-{row.name}",
                    kind="take",
                    state="failed",
                    system_id=row.id,
                    store_id=store,
                    order=ORDERS["take"],
                    by="nightly",
                    created=START,
                    ended=START,
                    reason="no answer",
                )
            )
    await standing(context)
    async with context.session() as session:
        waiting = (await session.execute(select(Alert).where(Alert.sent.is_(None)))).scalars().all()
        counts = {alert.route_id: alert.body.count for alert in waiting}
        assert (len(waiting), counts) == (2, {"watch": 31, "holm": 2})
        message = alert_messages.message_of(
            context, next(alert for alert in waiting if alert.route_id == "watch")
        )
    assert message.title == "depot does not answer. It holds up s-0, s-1, s-10 and 27 more."
    assert message.text.count("\n- ") == 20


async def test_what_has_one_cause_is_one_sentence_that_names_whom_it_touches(
    context: Context, store: str
) -> None:
    for number in range(14):
        system = await add_system(context, f"s-{number:02}")
        if number < 13:
            await add_backup(context, system, store, START, 1)
    await standing(context)
    async with context.session() as session:
        told = matters.matters(await standing_concerns.standing(session, context.now()))
    by_text = {matter.text: matter for matter in told}
    assert by_text["s-13 has no backup."].in_all == 1
    copies = by_text[
        "Only one copy exists of the newest good backup of each of s-00, s-01, s-02 and 10 more."
    ]
    assert (copies.in_all, len(copies.about), copies.severity) == (13, 10, "low")
    assert [matter.severity for matter in told] == sorted(matter.severity for matter in told)
    low = [matter.in_all for matter in told if matter.severity == "low"]
    assert low == sorted(low, reverse=True), "what touches most comes first"
    async with context.session() as session:
        found = await standing_concerns.standing(session, context.now())
        assert sum(matter.in_all for matter in told) == found.in_all


async def test_what_lies_on_the_machine_itself_protects_nothing(
    context: Context, store: str
) -> None:
    system = await add_system(context, "skerry")
    await add_backup(context, system, store, START, 1)
    async with context.session() as session:
        row, machine = await session.get_one(StoreRow, store), await session.get_one(System, system)
        row.address, row.key, machine.key = (
            "sftp://skerry.saltmere.example/backups",
            "SHA256:same",
            "SHA256:other",
        )
        machine.address = "10.9.0.7:22"
    assert "only-on-itself" not in await codes(context)
    async with context.session() as session:
        (await session.get_one(System, system)).key = "SHA256:same"
    found = await codes(context)
    assert {"only-on-itself", "on-a-system"} <= found
    assert "one-copy" not in found
    async with context.session() as session:
        machine = await session.get_one(System, system)
        machine.key, machine.address = "SHA256:other", "skerry.saltmere.example:22"
    assert "only-on-itself" in await codes(context), "by its address as well"
    async with context.session() as session:
        (await session.get_one(StoreRow, store)).address = "sftp://depot.saltmere.example/backups"
    assert not {"only-on-itself", "on-a-system"} & await codes(context)


async def test_a_store_whose_login_is_root_or_of_a_system_is_told(
    context: Context, store: str
) -> None:
    system = await add_system(context, "skerry")
    async with context.session() as session:
        login = (await session.get_one(System, system)).login_id
        assert login is not None
        (await session.get_one(StoreRow, store)).login_id = login
        (await session.get_one(Login, login)).account = "fennox"
    assert "store-login" in await codes(context), "a system has it too"
    async with context.session() as session:
        other = Login(
            id="l" * 32,
            name="depot",
            account="root",
            proves_by="password",
            sealed_secret=b"",
            changed=START,
        )
        session.add(other)
        await session.flush()
        (await session.get_one(StoreRow, store)).login_id = other.id
    assert "store-login" in await codes(context), "it is root"
    async with context.session() as session:
        (await session.get_one(Login, "l" * 32)).account = "depot"
    assert "store-login" not in await codes(context)


@pytest.mark.parametrize(
    ("address", "told"),
    [
        ("sftp://depot.Saltmere.example/backups", True),
        ("sftp://saltmere.example/backups", True),
        ("sftp://depot.notsaltmere.example/backups", False),
        ("sftp://10.9.0.7/backups", False),
        ("s3://backups?endpoint=https://depot.saltmere.example", True),
        ("/srv/backups", False),
    ],
)
async def test_a_store_whose_name_a_protected_system_resolves_is_told(
    context: Context, store: str, address: str, told: bool
) -> None:
    system = await add_system(context, "names-1")
    await add_backup(
        context,
        system,
        store,
        START,
        1,
        census={"zones": ["saltmere.example.", "9.10.in-addr.arpa"]},
    )
    async with context.session() as session:
        (await session.get_one(StoreRow, store)).address = address
        (await session.get_one(System, system)).kind = "bind-name-server"
    assert ("store-name" in await codes(context)) is told


async def test_what_people_take_by_hand_grows_old(
    context: Context, store: str, clock: SetClock
) -> None:
    system = await add_system(context, "skerry")
    await add_backup(context, system, store, START, 1)
    clock.at = START + timedelta(days=31)
    assert "old" not in await codes(context)
    clock.at = START + timedelta(days=32)
    assert "old" in await codes(context)


async def codes(context: Context) -> set[str]:
    await standing(context)
    async with context.session() as session:
        rows = (
            await session.execute(select(ConcernRow.code).where(ConcernRow.ended.is_(None)))
        ).scalars()
        return set(rows)


async def test_a_digest_tells_all_that_stands_once_at_its_time(
    context: Context, store: str, clock: SetClock
) -> None:
    async with context.session() as session:
        session.add(route("morning", digest="every day at 07:00", severity="low"))
    await add_system(context, "a")
    await standing(context)
    async with context.session() as session:
        assert (await session.execute(select(Alert))).scalars().all() == []
    clock.at = START + timedelta(days=3)
    await alert_messages.send_due(context)
    await alert_messages.send_due(context)
    async with context.session() as session:
        (alert,) = (await session.execute(select(Alert))).scalars().all()
    assert alert.event == "digest"
    assert "a has no backup." in alert_messages.message_of(context, alert).text
    assert (alert.sent, alert.tries) == (None, 1), (
        "its file cannot be written, and it is tried again"
    )
    assert alert.not_before == clock.at + timedelta(minutes=1)


async def test_routines_that_are_off_or_fit_nothing_are_told(context: Context, store: str) -> None:
    await add_routine(context, store, mode="off")
    await add_routine(context, store, id="x" * 32, name="empty", systems="site=nowhere")
    assert told(await standing(context, "nightly"), "is off")
    assert told(await standing(context, "empty"), "fits no system")
    async with context.session() as session:
        await session.execute(update(Routine).values(mode="by hand"))
    assert told(await standing(context, "nightly"), "is off") == []


async def test_a_take_that_failed_stands_until_a_take_is_done_and_a_restore_until_one_is(
    context: Context, store: str
) -> None:
    system = await add_system(context, "a")
    backup = await add_backup(context, system, store, START, 1)

    async def ended(kind: str, state: str, sheet: str | None = None) -> None:
        async with context.session() as session:
            number = (await session.execute(select(func.count()).select_from(Run))).scalar_one()
            at = START + timedelta(minutes=number)
            if sheet is not None:
                login = (await session.execute(select(Login.id))).scalars().first()
                session.add(
                    SheetRow(
                        id=sheet,
                        system_id=system,
                        backup_id=backup,
                        target_login_id=login,
                        state=state,
                        data=sheet_of("web-9", system, backup),
                        version=1,
                        created=at,
                        by="mara",
                    )
                )
                await session.flush()
            session.add(
                Run(
                    id=f"r-{number}",
                    kind=kind,
                    state=state,
                    system_id=system,
                    sheet_id=sheet,
                    order=ORDERS[kind],
                    by="mara",
                    created=at,
                    ended=at,
                    reason="no answer",
                )
            )

    async def failed() -> set[str]:
        return {
            text.split(" of a failed")[0]
            for text in await standing(context)
            if " of a failed" in text
        }

    await ended("draft", "failed")
    assert await failed() == set(), "a draft that failed is told to whom it was for"
    await ended("take", "failed")
    for kind in ("draft", "look", "verify"):
        await ended(kind, "done")
        assert await failed() == {"The last take"}, f"a {kind} is no take"
    await ended("look", "failed")
    assert await failed() == {"The last take", "The last look"}
    await ended("take", "done")
    assert await failed() == set()
    await ended("restore", "failed", "s-1")
    await ended("take", "done")
    assert await failed() == {"The last restore"}
    await ended("restore", "done", "s-2")
    assert await failed() == set()


async def test_a_person_who_looks_while_another_look_goes_on_waits_for_one_of_their_own(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    await add_system(context, "a")
    look, tried_twice, tries = estate_watch.look, asyncio.Event(), 0

    async def counted(context: Context, session: AsyncSession) -> bool:
        nonlocal tries
        tries += 1
        if tries == 2:
            tried_twice.set()
        return await look(context, session)

    async def person() -> list[str]:
        async with context.session() as session:
            await estate_watch.refresh(context, session)
        async with context.session() as session:
            return list((await session.execute(select(ConcernRow.text))).scalars())

    monkeypatch.setattr(estate_watch, "look", counted)
    monkeypatch.setattr(estate_watch, "_LOOKED_FOR", 10_000)
    async with context.session() as another:
        await another.execute(text(f"select pg_advisory_xact_lock({estate_watch._LOOKING})"))
        looking = asyncio.create_task(person())
        await tried_twice.wait()
        assert not looking.done()
    assert "a has no backup." in await looking


@pytest.mark.parametrize(
    ("state", "purpose", "is_proved", "drilled"),
    [
        ("proved", "practise", True, True),
        ("returned", "practise", True, True),
        ("returned", "practise", False, False),
        ("proved", "return", True, False),
        ("not proved", "repair", False, False),
        ("draft", "repair", None, False),
    ],
)
async def test_a_system_whose_practice_went_back_has_been_restored(
    context: Context,
    store: str,
    state: str,
    purpose: RestorePurpose,
    is_proved: bool | None,
    drilled: bool,
) -> None:
    """It was said to be "never restored, not even for practice"."""
    system = await add_system(context, "a")
    backup = await add_backup(context, system, store, START, 1)
    assert told(await standing(context, "drills"), "Never restored")
    sheet = sheet_of("a", system, backup).model_copy(update={"purpose": purpose})
    if is_proved is not None:
        sheet.proof = Proof(proved=is_proved, lists=[], left_out_lists=[], checks=[], at=START)
    async with context.session() as session:
        login = (await session.get_one(System, system)).login_id
        row = SheetRow(id="s", system_id=system, backup_id=backup, target_login_id=login)
        row.state, row.data, row.version, row.created, row.by = state, sheet, 1, START, "mara"
        session.add(row)
    assert bool(told(await standing(context, "drills"), "Never restored")) is not drilled
