"""Limiting sign-in attempts by account and by address. An attempt counts before anything is
checked, across processes.
"""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import delete, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import SignInFailure
from fennox.core.errors import TooManyAttempts, TryLater
from fennox.core.facts.concerns import ConcernFound
from fennox.service.machines.context import Context

MAX_FAILURES = 8
WINDOW = timedelta(minutes=10)
_LONGEST = timedelta(minutes=1)  # an attempt may last this long
_TURN, _TURNS = (
    0.25,
    120,
)  # seconds between checks for one's turn, and how many there are
_MOST_WAITING = 64  # in one process
_ACCOUNT, _ADDRESS, _PASSPHRASES = "user ", "address ", "passphrases by "


@dataclass
class Attempt:
    """An attempt; failed unless marked as ``passed``."""

    passed: bool = False


def to_sign_in(account: str, address: str) -> list[str]:
    """What a sign-in counts against. ``account`` empty: unknown whose secret it is."""
    return [*([f"{_ACCOUNT}{account}"] if account else []), f"{_ADDRESS}{address}"]


def to_open(name: str) -> list[str]:
    """What a passphrase given by a signed-in person counts against."""
    return [f"{_PASSPHRASES}{name}"]


@asynccontextmanager
async def attempt(context: Context, subjects: list[str]) -> AsyncIterator[Attempt]:
    """Wraps one check of a secret. Raises ``TooManyAttempts`` first if too many have failed. The
    failure is recorded in advance, so that parallel attempts gain nothing over sequential ones.
    """
    mark = secrets.token_hex(16)
    tried = Attempt()
    async with _one_of_few(context):
        await context.check_schema()
        await _begin(context, mark, subjects)
        try:
            yield tried
        finally:
            mine = SignInFailure.attempt == mark
            failed = update(SignInFailure).where(mine).values(attempt="")
            async with context.session() as session:
                await session.execute(delete(SignInFailure).where(mine) if tried.passed else failed)


@asynccontextmanager
async def _one_of_few(context: Context) -> AsyncIterator[None]:
    """Waiting attempts hold no database connection; too many are rejected."""
    if context.attempts_waiting >= _MOST_WAITING:
        raise TryLater("Too many people sign in at this moment.", "Try again in a minute.")
    context.attempts_waiting += 1
    try:
        async with asyncio.timeout(_TURN * _TURNS):
            await context.attempts_at_once.acquire()
    except TimeoutError as error:
        raise TryLater(
            "Too many people sign in at this moment.", "Try again in a minute."
        ) from error
    finally:
        context.attempts_waiting -= 1
    try:
        yield
    finally:
        context.attempts_at_once.release()


async def _begin(context: Context, mark: str, subjects: list[str]) -> None:
    for _ in range(_TURNS):
        async with context.session() as session:
            if await _may_try(session, subjects):
                session.add_all(
                    [
                        SignInFailure(subject=subject, at=func.now(), attempt=mark)
                        for subject in subjects
                    ]
                )
                return
        await asyncio.sleep(_TURN)
    raise TryLater("Too many people sign in at this moment.", "Try again in a minute.")


async def _may_try(session: AsyncSession, subjects: list[str]) -> bool:
    """Whether an attempt may start now; raises if too many have failed. Serialised, so that each
    sees the others.
    """
    here = SignInFailure.at > func.now() - WINDOW
    left_by_the_dead = SignInFailure.at < func.now() - _LONGEST
    failed = (SignInFailure.attempt == "") | left_by_the_dead
    for subject in sorted(subjects):
        await session.execute(select(func.pg_advisory_xact_lock(func.hashtext(subject))))
        counted = select(func.count(), func.count().filter(failed)).where(
            SignInFailure.subject == subject, here
        )
        tries, failures = (await session.execute(counted)).one()
        if failures >= MAX_FAILURES:
            raise TooManyAttempts("Too many attempts have failed.", "Wait ten minutes.")
        if tries >= MAX_FAILURES:
            return False
    return True


async def concerns(session: AsyncSession) -> list[ConcernFound]:
    """Accounts and addresses currently refused, with the time since when."""
    here = SignInFailure.at > func.now() - WINDOW
    refused = (
        select(SignInFailure.subject, func.max(SignInFailure.at))
        .where(here)
        .group_by(SignInFailure.subject)
    )
    rows = await session.execute(
        refused.having(func.count() >= MAX_FAILURES).order_by(SignInFailure.subject)
    )
    return [_concern(subject, last) for subject, last in rows]


def _concern(subject: str, last: datetime) -> ConcernFound:
    if subject.startswith(_ACCOUNT):
        name = subject.removeprefix(_ACCOUNT)
        return ConcernFound(
            "account-throttled",
            "high",
            "service",
            f"user {name}",
            f"Somebody tries passwords of {name}.",
            f"See who: fennox audit list --about {name}. Whoever is signed in stays so; a new"
            " sign-in by that name must wait.",
            f"{MAX_FAILURES} attempts within ten minutes have failed; more are refused.",
            since=last,
        )
    if subject.startswith(_PASSPHRASES):
        name = subject.removeprefix(_PASSPHRASES)
        return ConcernFound(
            "passphrases-throttled",
            "high",
            "service",
            subject,
            f"{name} has given many wrong passphrases.",
            f"Ask them; see: fennox audit list --by {name}",
            "They can try none for ten minutes.",
            since=last,
        )
    return ConcernFound(
        "address-throttled",
        "low",
        "service",
        subject,
        f"Many sign-ins from {subject} have failed.",
        f"See which names it tried: fennox audit list --from {subject.removeprefix(_ADDRESS)}",
        "Nobody can sign in from there for ten minutes.",
        since=last,
    )


async def forget(session: AsyncSession, account: str) -> None:
    """After a recovery: the person may sign in at once."""
    await session.execute(
        delete(SignInFailure).where(SignInFailure.subject == f"{_ACCOUNT}{account}")
    )
