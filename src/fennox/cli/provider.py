"""Signing in with an identity provider: a browser shows its page, and the answer comes to this
program (RFC 8252).
"""

from __future__ import annotations

import time
import webbrowser
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import NamedTuple
from urllib.parse import parse_qs, urlsplit

from pydantic import SecretStr

from fennox.cli.output import can_ask, say
from fennox.client.api import Client
from fennox.core.errors import PersonNeeded
from fennox.wire.access import ProviderBegin, ProviderSignIn, SignedIn

_PATIENCE = 300.0  # seconds for a person to sign in
_PAGE = (
    b"<!doctype html><meta charset=utf-8><title>Fennox</title><p>You can close this page and go on"
    b" in the terminal."
)


class _Answered(NamedTuple):
    state: str
    code: str


class _Listener(HTTPServer):
    """Listens on loopback, at a free port, for one answer."""

    found: _Answered | None = None
    said: str = ""

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.server_port}/"


class _Handler(BaseHTTPRequestHandler):
    server: _Listener

    def do_GET(self) -> None:
        given = {name: values[0] for name, values in parse_qs(urlsplit(self.path).query).items()}
        if "code" in given and "state" in given:
            self.server.found = _Answered(given["state"], given["code"])
        elif "error" in given:
            self.server.said = given.get("error_description") or given["error"]
        self.send_response(200)
        self.send_header("content-type", "text/html; charset=utf-8")
        self.send_header("content-length", str(len(_PAGE)))
        self.end_headers()
        self.wfile.write(_PAGE)

    def log_message(self, *words: object) -> None:
        """Logs nothing: the address contains a code."""


def sign_in(service: Client, *, fresh: bool, browser: bool) -> SignedIn:
    """Raises ``PersonNeeded`` if nobody signs in within a few minutes."""
    with _Listener() as listener:
        listener.timeout = 1
        begun = service.begin_provider_sign_in(
            ProviderBegin(redirect=listener.address, fresh=fresh)
        )
        say("Sign in with your browser:")
        print(begun.address, flush=True)
        if browser and can_ask():
            webbrowser.open(begun.address)
        end = time.monotonic() + _PATIENCE
        while listener.found is None and not listener.said and time.monotonic() < end:
            listener.handle_request()
        if listener.found is None:
            what = (
                f"The provider says: {listener.said}."
                if listener.said
                else "Nobody signed in within five minutes."
            )
            raise PersonNeeded(what, "Begin it again.")
        answer = listener.found
    wanted = ProviderSignIn(
        state=answer.state, code=SecretStr(answer.code), handle=SecretStr(begun.handle or "")
    )
    return service.sign_in_with_provider(wanted)
