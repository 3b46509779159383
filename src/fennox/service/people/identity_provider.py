"""Sign-on with an identity provider (OpenID Connect Core 1.0, authorization code flow with PKCE,
RFC 7636).

The provider says who somebody is, and in which groups; the settings say which groups are which
roles. A provider's word counts when somebody signs in, and when it ends their sessions (OpenID
Connect Back-Channel Logout 1.0).
"""

from __future__ import annotations

import re
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from ipaddress import ip_address
from typing import Any

import httpx
from authlib.oauth2.rfc6749.parameters import prepare_grant_uri
from authlib.oauth2.rfc7636 import create_s256_code_challenge
from authlib.oidc.discovery import OpenIDProviderMetadata, get_well_known_url
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from fennox.core import urls
from fennox.core.constant_time import same
from fennox.core.errors import MendSettings, NotAllowed, NotSignedIn, TryLater
from fennox.core.names import printable
from fennox.service.foundation.settings import Settings
from fennox.wire.access import Role

_ALGORITHMS = [
    "RS256",
    "RS384",
    "RS512",
    "PS256",
    "PS384",
    "PS512",
    "ES256",
    "ES384",
    "ES512",
    "EdDSA",
]
"""Signatures by a key that only the provider has: never ``none``, nor one by a secret that both
know.
"""
_LIMIT = 10.0  # seconds for one response of the provider
_KNOWN_FOR = 600.0  # seconds before metadata and keys are fetched again
_LEEWAY = 60  # seconds of allowed clock difference
_LARGEST = 1_000_000  # bytes of a response
_MOST_GROUPS = 5_000
_LOGGED_OUT = (  # Back-Channel Logout 1.0, section 2.4
    "http://schemas.openid.net/event/backchannel-logout"
)
_STRONGEST: tuple[Role, ...] = ("administrator", "operator", "auditor", "reader")


@dataclass(frozen=True)
class Vouched:
    """A person authenticated by the provider. ``authenticated``: when they last authenticated
    (seconds), if reported.
    """

    issuer: str
    subject: str
    name: str
    role: Role
    authenticated: int | None


@dataclass
class Provider:
    """Cached data of the provider; refreshed after a while, or for an unknown key."""

    settings: Settings
    _metadata: Mapping[str, Any] = field(default_factory=dict)
    _keys: KeySet | None = None
    _asked: float = float("-inf")

    @property
    def issuer(self) -> str:
        if not self.settings.oidc_issuer or not self.settings.oidc_client:
            raise MendSettings(
                "No identity provider is set up.", "Set oidc_issuer, oidc_client and oidc_roles."
            )
        return self.settings.oidc_issuer

    async def metadata(self, *, anew: bool = False) -> Mapping[str, Any]:
        """Raises ``TryLater`` if the provider is unreachable, ``MendSettings`` if another server
        answers.
        """
        if not anew and self._metadata and time.monotonic() - self._asked < _KNOWN_FOR:
            return self._metadata
        _must_be_safe(self.issuer)
        found: Mapping[str, Any] = OpenIDProviderMetadata(
            await self._get(get_well_known_url(self.issuer, external=True))
        )
        if found.get("issuer") != self.issuer:
            raise MendSettings(
                f"What answers at {self.issuer} says it is"
                f" {printable(str(found.get('issuer')))[:200]}.",
                "Write oidc_issuer exactly as the provider says it.",
            )
        for endpoint in ("authorization_endpoint", "token_endpoint", "jwks_uri"):
            _must_be_safe(str(found.get(endpoint, "")))
        try:
            keys = KeySet.import_key_set(await self._get(found["jwks_uri"]))  # type: ignore[arg-type]
        except (JoseError, ValueError, KeyError, TypeError) as error:
            raise MendSettings(
                f"The keys of {self.issuer} cannot be read ({error}).", "Check the provider."
            ) from error
        self._metadata, self._keys, self._asked = found, keys, time.monotonic()
        return found

    async def address(
        self, state: str, nonce: str, verifier: str, redirect: str, *, fresh: bool
    ) -> str:
        """The sign-in address. ``fresh``: force a new authentication."""
        endpoint = (await self.metadata())["authorization_endpoint"]
        again = {"prompt": "login", "max_age": 0} if fresh else {}
        address: str = prepare_grant_uri(
            endpoint,
            client_id=self.settings.oidc_client,
            response_type="code",
            redirect_uri=redirect,
            scope=self.settings.oidc_scope,
            state=state,
            nonce=nonce,
            code_challenge=create_s256_code_challenge(verifier),
            code_challenge_method="S256",
            **again,
        )
        return address

    async def vouched(self, code: str, redirect: str, verifier: str, nonce: str) -> Vouched:
        """The person behind a code. Raises ``NotSignedIn`` for a wrong code, ``NotAllowed`` without
        a known group.
        """
        endpoint = (await self.metadata())["token_endpoint"]
        wanted = {
            "grant_type": "authorization_code",
            "code": code,
            "redirect_uri": redirect,
            "client_id": str(self.settings.oidc_client),
            "code_verifier": verifier,
        }
        if (secret := self.settings.oidc_secret()) is not None:
            wanted["client_secret"] = secret
        answer = await self._ask("POST", endpoint, data=wanted)
        claims = await self._claims(str(answer.get("id_token", "")))
        if not same(nonce, str(claims.get("nonce", ""))):
            raise _not_for_us("it belongs to another sign-in")
        when = claims.get("auth_time")
        return Vouched(
            issuer=self.issuer,
            subject=_subject(claims),
            name=self._name(claims),
            role=self._role(claims),
            authenticated=when if isinstance(when, int) else None,
        )

    async def logged_out(self, token: str) -> str:
        """The subject whose sessions a logout token ends."""
        claims = await self._claims(token)
        events = claims.get("events")
        if not isinstance(events, dict) or _LOGGED_OUT not in events or "nonce" in claims:
            raise _not_for_us("it is no logout token")
        return _subject(claims)

    async def _claims(self, token: str) -> dict[str, object]:
        """The claims of a token this provider just signed for us."""
        await self.metadata()
        try:
            decoded = jwt.decode(token, self._keys_of, algorithms=_ALGORITHMS)
        except (JoseError, ValueError, KeyError, TypeError):
            await self.metadata(anew=True)  # the provider may have a new key
            try:
                decoded = jwt.decode(token, self._keys_of, algorithms=_ALGORITHMS)
            except (JoseError, ValueError, KeyError, TypeError) as error:
                raise _not_for_us("the provider has not signed it") from error
        claims: dict[str, object] = dict(decoded.claims)
        self._must_be_ours(claims)
        return claims

    def _keys_of(self, _token: object) -> KeySet:
        assert self._keys is not None
        return self._keys

    def _must_be_ours(self, claims: Mapping[str, Any]) -> None:
        """OpenID Connect Core 1.0, section 3.1.3.7."""
        audience = claims.get("aud")
        client = self.settings.oidc_client
        if claims.get("iss") != self.issuer:
            raise _not_for_us("it is of another provider")
        if client not in (audience if isinstance(audience, list) else [audience]):
            raise _not_for_us("it was made for another program")
        if claims.get("azp") not in (None, client):
            raise _not_for_us("it was given to another program")
        now = time.time()
        issued, ends = claims.get("iat"), claims.get("exp", now + 1)
        if not isinstance(issued, int | float) or not isinstance(ends, int | float):
            raise _not_for_us("it does not say when it was made")
        if issued > now + _LEEWAY or ends < now - _LEEWAY:
            away = (issued if issued > now else ends) - now
            raise NotSignedIn(
                f"The provider's token is {abs(away):.0f} seconds"
                f" {'ahead of' if away > 0 else 'behind'} this clock.",
                "Have the provider's machine and this one follow a time server, then sign in"
                " again.",
            )

    def _name(self, claims: Mapping[str, Any]) -> str:
        """A valid user name made from the provider's name; a mail address without its host."""
        given = str(
            claims.get(self.settings.oidc_name_claim) or claims.get("email") or claims["sub"]
        )
        name = re.sub(r"[^a-z0-9]+", "-", given.split("@")[0].lower()).strip("-")[:48]
        if not name:
            raise NotAllowed(
                "The provider gives no name that could be used here.", "See oidc_name_claim."
            )
        return name

    def _role(self, claims: Mapping[str, Any]) -> Role:
        """The strongest role among the groups named in the settings. Groups in any other form are
        ignored.
        """
        given = claims.get(self.settings.oidc_groups_claim)
        groups = (
            {one for one in given[:_MOST_GROUPS] if isinstance(one, str)}
            if isinstance(given, list)
            else set()
        )
        roles = {role for group, role in self.settings.oidc_roles.items() if group in groups}
        found = next((role for role in _STRONGEST if role in roles), None)
        if found is None:
            raise NotAllowed(
                "None of your groups has a role here.",
                "An administrator names groups in oidc_roles of the settings.",
            )
        return found

    async def _get(self, address: str) -> dict[str, object]:
        return await self._ask("GET", address)

    async def _ask(
        self, method: str, address: str, data: dict[str, str] | None = None
    ) -> dict[str, object]:
        where = urls.split(address).hostname
        try:
            async with httpx.AsyncClient(
                timeout=_LIMIT, trust_env=False, follow_redirects=False
            ) as client:
                answer = await client.request(
                    method, address, data=data, headers={"accept": "application/json"}
                )
        except httpx.HTTPError as error:
            raise TryLater(
                f"The identity provider at {where} does not answer ({type(error).__name__}).",
                "Try again, or sign in with a password of your own here.",
            ) from error
        if answer.status_code >= 500:
            raise TryLater(
                f"The identity provider at {where} answers {answer.status_code}.",
                "Try again in a while.",
            )
        if answer.status_code >= 400 and method == "POST":
            raise NotSignedIn(
                "The identity provider does not know this sign-in (any more).", "Begin it again."
            )
        found = (
            answer.json() if answer.status_code == 200 and len(answer.content) <= _LARGEST else None
        )
        if not isinstance(found, dict):
            raise MendSettings(
                f"What answers at {where} is no identity provider.", "Mend oidc_issuer."
            )
        return found


def _subject(claims: Mapping[str, Any]) -> str:
    subject = claims.get("sub")
    if not isinstance(subject, str) or not 0 < len(subject) <= 255:
        raise _not_for_us("it names nobody")
    return subject


def _not_for_us(why: str) -> NotSignedIn:
    return NotSignedIn(
        f"What the identity provider gave is not accepted: {why}.", "Begin the sign-in again."
    )


def _must_be_safe(address: str) -> None:
    """Raise unless the address uses TLS; a provider on this machine needs none."""
    parts = urls.split(address)
    if parts.scheme == "https" and parts.hostname:
        return
    if parts.scheme != "http" or not _is_here(parts.hostname or ""):
        raise MendSettings(
            f"{printable(address)[:200]!r} is not under TLS.",
            "Give an https:// address of the provider.",
        )


def _is_here(host: str) -> bool:
    try:
        return host == "localhost" or ip_address(host).is_loopback
    except ValueError:
        return False
