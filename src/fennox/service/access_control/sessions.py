"""Sessions of people and tokens of their programs: listed, made, ended."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Token, User
from fennox.core.errors import BadInput, Conflict, NotAllowed, NotFound
from fennox.service.people import scopes, tokens
from fennox.service.people.persons import COVERS, Person, person_from
from fennox.service.people.tokens import LIFE, Narrow
from fennox.wire.access import NewToken, SessionShown, TokenMade
from fennox.wire.base import Page

_MOST_TOKENS = 100  # of one person


def _shown(user: User, row: Token, who: Person) -> SessionShown:
    may = person_from(user, row, by_cookie=False, proved=False)
    return SessionShown(
        id=row.id,
        user=user.name,
        kind=may.kind,
        name=row.name,
        role=may.role,
        rights=sorted(may.rights),
        scope=[list(one) for one in may.scope] if may.scope is not None else None,
        created=row.created,
        until=row.until,
        last_used=row.used,
        address=row.address,
        program=row.program,
        current=row.id == who.session,
    )


async def page(
    session: AsyncSession, who: Person, now: datetime, *, everybody: bool
) -> Page[SessionShown]:
    """Most recently used first. Raises NotAllowed."""
    if everybody and not (who.may("auditor") and who.scope is None):
        raise NotAllowed(
            "Only administrators and auditors see sessions of others.", "Ask one of them."
        )
    rows = select(User, Token).join(Token, Token.user_id == User.id).where(Token.until > now)
    mine = rows if everybody else rows.where(User.id == who.id)
    used_last = Token.used.desc().nulls_last(), Token.created.desc()
    chosen = (await session.execute(mine.order_by(*used_last))).all()
    return Page(items=[_shown(user, row, who) for user, row in chosen])


async def end(session: AsyncSession, session_id: str, who: Person) -> tuple[User, Token]:
    """End one's own session; administrators can end anybody's. Raises NotFound."""
    query = select(User, Token).join(Token, Token.user_id == User.id).where(Token.id == session_id)
    if not (who.may("administrator") and who.scope is None):
        query = query.where(User.id == who.id)
    chosen = (await session.execute(query)).first()
    if chosen is None:
        raise NotFound(
            f"There is no session {session_id[:32]}.", "`fennox session list` shows them."
        )
    user, row = chosen
    await session.delete(row)
    return user, row


async def make_token(
    session: AsyncSession, wanted: NewToken, who: Person, now: datetime
) -> TokenMade:
    """Make a token, which can do no more than its person. Raises BadInput and Conflict."""
    if wanted.role not in COVERS[who.role]:
        raise BadInput(
            f"You do not have the role {wanted.role}.",
            "Give it a role that you have.",
            field="role",
        )
    if wanted.rights is not None and (more := sorted(set(wanted.rights) - who.rights)):
        raise BadInput(
            f"You do not have the right {more[0]} yourself.", "Leave it out.", field="rights"
        )
    with scopes.within(who.scope):
        await scopes.check(session, wanted.scope)
    user = await session.get_one(User, who.id, with_for_update=True)
    await _must_be_new(session, who, wanted.name, now)
    life = timedelta(days=wanted.days) if wanted.days is not None else LIFE[wanted.kind]
    narrow = Narrow(wanted.role, wanted.rights, wanted.scope)
    secret, row = await tokens.make(
        session, user, wanted.kind, wanted.name, now + life, now, narrow
    )
    return TokenMade(token=secret, made=_shown(user, row, who))


async def _must_be_new(session: AsyncSession, who: Person, name: str, now: datetime) -> None:
    mine = select(Token.name).where(Token.user_id == who.id, Token.name != "", Token.until > now)
    names = (await session.execute(mine)).scalars().all()
    if name in names:
        raise Conflict(
            f"You already have a token {name}.", "Choose another name, or end that one first."
        )
    if len(names) >= _MOST_TOKENS:
        raise Conflict(
            f"You have {_MOST_TOKENS} tokens.", "End those that nothing uses: fennox token list"
        )
