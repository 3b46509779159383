"""Second factors: codes of an authenticator (TOTP, RFC 6238) and recovery codes."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

import pyotp
from sqlalchemy import delete, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.people import Challenge, Passkey, RecoveryCode, User
from fennox.core.constant_time import same
from fennox.core.errors import BadInput, Conflict, NotFound
from fennox.service.machines.context import Context
from fennox.wire.access import Factor

_STEP = 30  # seconds, RFC 6238 section 5.2
_AROUND = (-1, 0, 1)  # steps of clock difference allowed
_BEGUN = timedelta(minutes=15)  # time to complete the set-up
_CODES = 10
_GROUPS, _GROUP = 4, 4  # length of a recovery code: 80 bits
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"  # no look-alike characters


def place(user: str) -> str:
    """The place bound into the sealed secret."""
    return f"users|{user}|totp"


def asked_of(user: User) -> list[str]:
    """Second factors required besides the password; empty: none."""
    return ["authenticator", "recovery code"] if user.sealed_totp is not None else []


async def kinds(session: AsyncSession, user: User) -> list[Factor]:
    """All credentials of a person."""
    found: list[Factor] = []
    if user.password_hash:
        found.append("password")
    if user.sealed_totp is not None:
        found.append("authenticator")
    if (
        await session.execute(select(Passkey.id).where(Passkey.user_id == user.id).limit(1))
    ).first() is not None:
        found.append("passkey")
    if user.issuer:
        found.append("provider")
    return found


async def accept(context: Context, user: User, code: str) -> bool:
    """Whether a code is valid now; each code is accepted once, even if sent twice at the same
    time.
    """
    code = code.strip().replace(" ", "").lower()
    if user.sealed_totp is None:
        return True  # there is no second factor, and the password was right
    async with context.session() as session:
        if code.isdigit():
            step = fitting_step(
                context.keyfile.open(user.sealed_totp, place(user.id)).decode(), code, context
            )
            if step is None:
                return False
            unused = update(User).where(User.id == user.id, User.totp_used < step)
            return (
                await session.execute(unused.values(totp_used=step).returning(User.id))
            ).first() is not None
        mine = (RecoveryCode.user_id == user.id, RecoveryCode.hash == _hash(code))
        used = delete(RecoveryCode).where(*mine).returning(RecoveryCode.hash)
        return (await session.execute(used)).first() is not None


def fitting_step(secret: str, code: str, context: Context) -> int | None:
    """The time step of this code, by this machine's clock."""
    totp, now = pyotp.TOTP(secret, interval=_STEP), int(context.wall().timestamp()) // _STEP
    steps = [now + away for away in _AROUND]
    return next((step for step in steps if same(totp.generate_otp(step), code)), None)


def new_secret() -> str:
    return pyotp.random_base32()


def otpauth(secret: str, user: str) -> str:
    return pyotp.TOTP(secret).provisioning_uri(name=user, issuer_name="Fennox")


async def new_recovery_codes(session: AsyncSession, user: str) -> list[str]:
    """Ten new codes; earlier ones become invalid."""
    await end_codes(session, user)
    codes = ["-".join(_group() for _ in range(_GROUPS)) for _ in range(_CODES)]
    session.add_all([RecoveryCode(user_id=user, hash=_hash(code)) for code in codes])
    return codes


async def remember(session: AsyncSession, context: Context, user: str, secret: str) -> None:
    """A secret waiting for its first code."""
    sealed = context.keyfile.seal(secret.encode(), place(user)).hex()
    until = context.wall() + _BEGUN
    await session.merge(
        Challenge(id=f"totp {user}", purpose="totp", data={"sealed": sealed}, until=until)
    )


async def remembered(session: AsyncSession, context: Context, user: str) -> str | None:
    row = await session.get(Challenge, f"totp {user}")
    if row is None or row.until < context.wall():
        return None
    return context.keyfile.open(bytes.fromhex(row.data["sealed"]), place(user)).decode()


async def done(session: AsyncSession, user: str) -> None:
    await session.execute(delete(Challenge).where(Challenge.id == f"totp {user}"))


async def end_codes(session: AsyncSession, user: str) -> None:
    await session.execute(delete(RecoveryCode).where(RecoveryCode.user_id == user))


async def forget(session: AsyncSession, user: User) -> None:
    """Remove the second factor; the person sets up a new one."""
    user.sealed_totp, user.totp_since = None, None
    await end_codes(session, user.id)
    await session.execute(delete(Passkey).where(Passkey.user_id == user.id))


def _group() -> str:
    return "".join(secrets.choice(_LETTERS) for _ in range(_GROUP))


def _hash(code: str) -> str:
    return hashlib.sha256(code.replace("-", "").encode(errors="replace")).hexdigest()


async def begin(session: AsyncSession, context: Context, user_id: str) -> str:
    """A new secret, active once a code from it is given. Raises Conflict."""
    secret = new_secret()
    user = await session.get_one(User, user_id, with_for_update=True)
    if user.sealed_totp is not None:
        raise Conflict("You have an authenticator already.", "Remove it first.")
    await remember(session, context, user_id, secret)
    return secret


async def confirm(session: AsyncSession, context: Context, user_id: str, code: str) -> list[str]:
    """Returns recovery codes. Raises BadInput."""
    user = await session.get_one(User, user_id, with_for_update=True)
    secret = await remembered(session, context, user_id)
    step = fitting_step(secret, code, context) if secret is not None else None
    if secret is None or step is None:
        raise BadInput(
            "The code is wrong, or too much time has passed.",
            "Compare the clocks of both machines, or begin again.",
            field="code",
        )
    user.sealed_totp = context.keyfile.seal(secret.encode(), place(user_id))
    user.totp_since, user.totp_used = context.now(), step
    codes = await new_recovery_codes(session, user_id)
    await done(session, user_id)
    return codes


async def remove(session: AsyncSession, user_id: str) -> None:
    """Remove it together with the recovery codes. Raises NotFound."""
    user = await session.get_one(User, user_id, with_for_update=True)
    if user.sealed_totp is None:
        raise NotFound("You have no authenticator.", "Set one up: fennox user authenticator")
    user.sealed_totp, user.totp_since = None, None
    await end_codes(session, user_id)


async def replace_recovery_codes(session: AsyncSession, user_id: str) -> list[str]:
    """Raises Conflict."""
    user = await session.get_one(User, user_id, with_for_update=True)
    if user.sealed_totp is None:
        raise Conflict(
            "Recovery codes stand in for an authenticator; you have none.", "Set one up."
        )
    return await new_recovery_codes(session, user_id)
