"""Passkeys (WebAuthn level 2): a device proves that it holds a key, and that its owner unlocked it.

That combines possession with knowledge or biometrics, so a passkey alone signs in.
"""

from __future__ import annotations

import ipaddress
import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple
from urllib.parse import urlsplit

import webauthn
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession
from webauthn.helpers import base64url_to_bytes, bytes_to_base64url
from webauthn.helpers.exceptions import WebAuthnException
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    PublicKeyCredentialCreationOptions,
    PublicKeyCredentialDescriptor,
    PublicKeyCredentialRequestOptions,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

from fennox.catalogue.models.people import Passkey, User
from fennox.core.errors import BadInput, Conflict, MendSettings, NotFound, NotSignedIn
from fennox.service.machines.context import Context
from fennox.wire.access import NewPasskey

_MOST = 20  # per person


@dataclass(frozen=True)
class Party:
    """The relying party of a passkey: a host name, and the console's address there."""

    id: str
    origin: str


def party(context: Context) -> Party:
    """Raises ``MendSettings`` if browsers offer no passkeys: at an IP address, or without TLS
    except on localhost.
    """
    parts = urlsplit(context.settings.url)
    host = parts.hostname or ""
    if _is_number(host) or (parts.scheme != "https" and host != "localhost"):
        raise MendSettings(
            f"Browsers offer no passkeys at {context.settings.url}.",
            "Set public_address to the https:// address, with a name, by which people reach the"
            " console.",
        )
    return Party(host, f"{parts.scheme}://{parts.netloc}")


def _is_number(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


def _options(
    made: PublicKeyCredentialCreationOptions | PublicKeyCredentialRequestOptions,
) -> Options:
    return Options(json.loads(webauthn.options_to_json(made)), bytes_to_base64url(made.challenge))


class Options(NamedTuple):
    """``plain``: for the browser, as JSON; ``challenge``: must come back signed."""

    plain: dict[str, object]
    challenge: str


def registration(here: Party, user: User, known: Sequence[Passkey]) -> Options:
    """Options to create a new passkey."""
    options = webauthn.generate_registration_options(
        rp_id=here.id,
        rp_name="Fennox",
        user_id=user.id.encode(),
        user_name=user.name,
        authenticator_selection=AuthenticatorSelectionCriteria(
            resident_key=ResidentKeyRequirement.REQUIRED,
            user_verification=UserVerificationRequirement.REQUIRED,
        ),
        exclude_credentials=[
            PublicKeyCredentialDescriptor(id=base64url_to_bytes(one.id)) for one in known
        ],
    )
    return _options(options)


def registered(
    here: Party, challenge: str, credential: dict[str, object]
) -> tuple[str, bytes, int]:
    """The id, public key and counter of a new passkey. Raises ``BadInput`` if it is not for this
    service.
    """
    try:
        found = webauthn.verify_registration_response(
            credential=credential,
            expected_challenge=base64url_to_bytes(challenge),
            expected_rp_id=here.id,
            expected_origin=here.origin,
            require_user_verification=True,
        )
    except (WebAuthnException, ValueError, KeyError, TypeError) as error:
        raise BadInput(
            f"The passkey was not accepted: {error}.", "Try again, at the console's own address."
        ) from error
    return bytes_to_base64url(found.credential_id), found.credential_public_key, found.sign_count


def authentication(here: Party) -> Options:
    """Options for the browser, without a list of passkeys: the device knows its own, and strangers
    must not learn them.
    """
    return _options(
        webauthn.generate_authentication_options(
            rp_id=here.id, user_verification=UserVerificationRequirement.REQUIRED
        )
    )


async def authenticated(
    session: AsyncSession, context: Context, challenge: str, credential: dict[str, object]
) -> User:
    """The holder of the passkey. Raises ``NotSignedIn`` if it is unknown, not for this service, or
    a copy was used.
    """
    here = party(context)
    refusal = NotSignedIn(
        "This passkey is not known here, or was not accepted.", "Sign in in another way."
    )
    query = select(User, Passkey).join(Passkey, Passkey.user_id == User.id)
    mine = query.where(Passkey.id == str(credential.get("id", ""))[:2048]).with_for_update(
        of=Passkey
    )
    row = (await session.execute(mine)).first()
    if row is None:
        raise refusal
    user, key = row
    try:
        found = webauthn.verify_authentication_response(
            credential=credential,
            expected_challenge=base64url_to_bytes(challenge),
            expected_rp_id=here.id,
            expected_origin=here.origin,
            credential_public_key=key.public_key,
            credential_current_sign_count=key.sign_count,
            require_user_verification=True,
        )
    except (WebAuthnException, ValueError, KeyError, TypeError) as error:
        raise refusal from error
    key.sign_count, key.used = found.new_sign_count, context.wall()
    return user


async def of_user(session: AsyncSession, user: str) -> list[Passkey]:
    rows = select(Passkey).where(Passkey.user_id == user).order_by(Passkey.created)
    return list((await session.execute(rows)).scalars())


async def begin(session: AsyncSession, context: Context, user: str) -> Options:
    """Options for the browser to create a passkey. Raises Conflict."""
    known = await of_user(session, user)
    if len(known) >= _MOST:
        raise Conflict(f"You have {_MOST} passkeys.", "Remove those that you no longer use.")
    return registration(party(context), await session.get_one(User, user), known)


async def add(
    session: AsyncSession, context: Context, wanted: NewPasskey, challenge: str, user: str
) -> Passkey:
    """Store the passkey created by the browser. Raises Conflict, and BadInput if it does not answer
    the challenge.
    """
    id_, key, count = registered(party(context), challenge, wanted.credential)
    if await session.get(Passkey, id_) is not None:
        raise Conflict("This passkey is known already.", "Use another device.")
    row = Passkey(
        id=id_,
        user_id=user,
        name=wanted.name,
        public_key=key,
        sign_count=count,
        created=context.wall(),
        used=None,
    )
    session.add(row)
    return row


async def remove(session: AsyncSession, passkey: str, user: str) -> Passkey:
    row = await session.get(Passkey, passkey)
    if row is None or row.user_id != user:
        raise NotFound("You have no such passkey.", "Look at the list of yours.")
    await session.delete(row)
    return row
