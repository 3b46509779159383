"""Restoring access for somebody who cannot sign in, from a shell on the service's machine."""

from __future__ import annotations

from sqlalchemy import select

from fennox.catalogue.models.people import Audit, User
from fennox.catalogue.models.service import ServiceState
from fennox.core.errors import NotFound
from fennox.service.access_control import attempts, second_factors
from fennox.service.machines.context import Context
from fennox.service.people import passwords, tokens

BY = "the host"  # who it was, for the audit


async def recover(
    context: Context, name: str, password: str, *, administrator: bool, no_approvals: bool
) -> list[str]:
    """Sets a new password, removes second factors and ends all sessions. Returns what was done, as
    text.
    """
    hash_ = await passwords.hash_password(password, name)
    done = ["second factor forgotten"]
    async with context.session() as session:
        row = (
            await session.execute(select(User).where(User.name == name).with_for_update())
        ).scalar_one_or_none()
        if row is None:
            names = (
                ", ".join((await session.execute(select(User.name).order_by(User.name))).scalars())
                or "nobody"
            )
            raise NotFound(f"There is no user {name}.", f"There are: {names}.")
        row.password_hash, row.must_change = hash_, False
        await second_factors.forget(session, row)
        await attempts.forget(session, name)
        done.append(f"{await tokens.end_others(session, row.id, but=None)} sessions ended")
        if administrator:
            row.role, row.rights, row.scope = "administrator", None, None
            done.append("made administrator of the whole estate")
        if no_approvals:
            (
                await session.execute(select(ServiceState).with_for_update())
            ).scalar_one().approvals = []
            done.append("approvals switched off")
        said = {"what": ", ".join(done)}
        session.add(
            Audit(at=context.now(), by=BY, action="recovered", noun="user", name=name, details=said)
        )
    return done
