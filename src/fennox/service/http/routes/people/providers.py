"""Signing in with an identity provider."""

from __future__ import annotations

import re
import secrets
import time
from urllib.parse import parse_qs

from fastapi import Request, Response

from fennox.core.constant_time import same
from fennox.core.errors import BadInput, NotSignedIn
from fennox.service.access_control import audit, provider_users
from fennox.service.access_control.attempts import attempt, to_sign_in
from fennox.service.http.guarded import api_router
from fennox.service.http.routes.people.session import Here, begin_session, origin_of
from fennox.service.machines.context import Context
from fennox.service.people import challenges, tokens
from fennox.service.people.identity_provider import Provider
from fennox.service.people.tokens import FRESH
from fennox.wire.access import ProviderBegin, ProviderBegun, ProviderSignIn, SignedIn, SignInWays

router = api_router("session")

_PURPOSE = "provider sign-in"
_COOKIE = "fennox_sign_in"  # binds the sign-in to the browser that began it
_OF_A_CLIENT = re.compile(r"http://127\.0\.0\.1:[0-9]{4,5}/\Z")  # RFC 8252, section 7.3


def _provider(context: Context) -> Provider:
    if context.provider is None:
        context.provider = Provider(context.settings)
    return context.provider


@router.get("/session/ways")
async def sign_in_ways(context: Here) -> SignInWays:
    """The available ways to sign in."""
    there = bool(context.settings.oidc_issuer and context.settings.oidc_client)
    return SignInWays(provider=context.settings.oidc_title if there else None)


@router.post("/session/provider/begin")
async def begin_provider_sign_in(
    wanted: ProviderBegin, request: Request, response: Response, context: Here
) -> ProviderBegun:
    """Begin a sign-in with the provider; returns its address. A client gives the loopback address
    it listens on.
    """
    if wanted.redirect is not None and not _OF_A_CLIENT.match(wanted.redirect):
        raise BadInput(
            "A client listens at http://127.0.0.1:PORT/.", "Give that address.", field="redirect"
        )
    redirect = wanted.redirect or f"{context.settings.url.rstrip('/')}/sign-in"
    state, nonce, verifier = (secrets.token_urlsafe(32) for _ in range(3))
    address = await _provider(context).address(state, nonce, verifier, redirect, fresh=wanted.fresh)
    begun = {"state": state, "nonce": nonce, "verifier": verifier, "redirect": redirect}
    async with context.session() as session:
        handle = await challenges.begin(session, _PURPOSE, begun)
    if wanted.redirect is not None:
        return ProviderBegun(address=address, handle=handle)
    secure = request.url.scheme == "https"
    response.set_cookie(
        _COOKIE, handle, httponly=True, samesite="strict", secure=secure, path="/", max_age=600
    )
    return ProviderBegun(address=address, handle=None)


@router.post("/session/provider")
async def sign_in_with_provider(
    wanted: ProviderSignIn, request: Request, response: Response, context: Here
) -> SignedIn:
    """Complete a sign-in with the provider's response: returns a cookie for the console, or a token
    for the client.
    """
    handle = (
        wanted.handle.get_secret_value()
        if wanted.handle is not None
        else request.cookies.get(_COOKIE, "")
    )
    async with attempt(context, to_sign_in("", origin_of(request).address)) as tried:
        async with context.session() as session:
            begun = await challenges.use(session, _PURPOSE, handle)
        if not same(begun["state"], wanted.state):
            raise NotSignedIn(
                "This answer of the provider belongs to another sign-in.", "Begin it again."
            )
        vouched = await _provider(context).vouched(
            wanted.code.get_secret_value(), begun["redirect"], begun["verifier"], begun["nonce"]
        )
        tried.passed = True
    async with context.session() as session:
        user = await provider_users.user_of(session, request, context, vouched)
    age = time.time() - vouched.authenticated if vouched.authenticated is not None else None
    proved = age is not None and -60 <= age <= FRESH.total_seconds()
    response.delete_cookie(_COOKIE, path="/")
    return await begin_session(
        context, request, response, user, as_token=wanted.handle is not None, proved=proved
    )


@router.post("/session/provider/logout", status_code=204)
async def provider_ends_sessions(request: Request, context: Here) -> None:
    """Back-channel logout: the provider ends all sessions of a person (a form with
    `logout_token`).
    """
    given = parse_qs((await request.body()).decode("ascii", "replace")).get("logout_token", [""])
    async with attempt(context, to_sign_in("", origin_of(request).address)) as tried:
        provider = _provider(context)
        subject = await provider.logged_out(given[0])
        tried.passed = True
    async with context.session() as session:
        user = await provider_users.known(session, provider.issuer, subject)
        if user is not None:
            ended = await tokens.end_others(session, user.id, but=None)
            await audit.note_as(
                session,
                request,
                "the provider",
                "ended the sessions of",
                "user",
                user.name,
                ended=str(ended),
            )
