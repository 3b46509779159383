"""An entry for every change and every start: who, when, what."""

from __future__ import annotations

from fastapi import Request
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models import Audit
from fennox.service.context import Context


async def note(session: AsyncSession, request: Request, action: str, noun: str, name: str, **details: str) -> None:
    """In the caller's transaction. No detail ever holds a secret."""
    context: Context = request.app.state.context
    person = getattr(request.state, "person", None)
    by = person.name if person else "-"
    session.add(Audit(at=context.now(), by=by, action=action, noun=noun, name=name, details=details))
