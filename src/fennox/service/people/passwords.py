"""Passwords and passphrases: how strong they must be, and their hashes (Argon2id, RFC 9106)."""

from __future__ import annotations

import secrets

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from fennox.core.errors import BadInput
from fennox.service.foundation.hashing import hashed

_hasher = PasswordHasher()
_NOBODY = _hasher.hash(secrets.token_hex(16))  # an unknown user takes as long as a wrong password


def strength_complaint(secret: str, words: list[str]) -> str | None:
    """A sentence why a passphrase or password is too weak; None if strong enough (zxcvbn's best
    score, 10^10 guesses).
    """
    if len(secret) > 1024:
        return "It is longer than 1024 characters."
    if len(secret) < 12:
        return f"It has {len(secret)} characters; 12 are the least."
    from zxcvbn import zxcvbn  # 12 MB of word lists, rarely needed

    judged = zxcvbn(secret[:72], user_inputs=words)
    if judged["score"] == 4:
        return None
    warning = judged["feedback"]["warning"] or "It can be guessed"
    crack = judged["crack_times_display"]["offline_slow_hashing_1e4_per_second"]
    return f"{warning.rstrip('.')}: somebody who has a copy would need {crack} to guess it."


async def hash_password(password: str, user: str) -> str:
    """Raises ``BadInput`` if it is too weak."""
    complaint = strength_complaint(password, [user, "fennox"])
    if complaint is not None:
        raise BadInput(
            f"The password is too weak. {complaint}", "Use four unrelated words.", field="password"
        )
    return await hashed(lambda: _hasher.hash(password))


async def fits(password_hash: str | None, password: str) -> bool:
    """``password_hash`` None: unknown user, takes as long. Empty: no password is accepted."""
    return await hashed(lambda: _fits(password_hash or _NOBODY, password)) and bool(password_hash)


def _fits(password_hash: str, password: str) -> bool:
    try:
        return _hasher.verify(password_hash, password)
    except (VerificationError, InvalidHashError):
        return False
