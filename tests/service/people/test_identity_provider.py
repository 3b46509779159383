"""Sign-on with a real identity provider on loopback (OpenID Connect), and with one that lies."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import httpx
import psycopg
import pytest
from joserfc import jwt
from joserfc.jwk import ECKey, KeySet

from fennox.client.api import Client, ProblemError
from fennox.wire.access import ProviderBegin, ProviderSignIn
from tests import programs
from tests.places import free_port, loopback
from tests.provider import CLIENT, service_signing_on, settings_of
from tests.service.running import PASSWORD, Service, until

HERE = "http://127.0.0.1:4711/"  # where a client would listen
Claims = dict[str, object]


class Lying:
    """A provider whose tokens say what a test wants. It keeps to the protocol otherwise."""

    def __init__(self, host: str) -> None:
        self.key = ECKey.generate_key("P-256", auto_kid=True)
        self.signs_with = self.key
        self.change: Callable[[Claims], Claims] = lambda claims: claims
        self.issuer_said = ""
        self.codes: dict[str, Claims] = {}
        provider = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                parts = urlsplit(self.path)
                if parts.path == "/.well-known/openid-configuration":
                    self._answer(provider.metadata())
                elif parts.path == "/keys":
                    self._answer(KeySet([provider.key]).as_dict(private=False))

            def do_POST(self) -> None:
                given = parse_qs(self.rfile.read(int(self.headers["content-length"])).decode())
                begun = provider.codes.pop(given["code"][0], None)
                if begun is None:
                    self._answer({"error": "invalid_grant"}, 400)
                    return
                self._answer(
                    {"access_token": "x", "token_type": "Bearer", "id_token": provider.token(begun)}
                )

            def _answer(self, body: object, status: int = 200) -> None:
                data = json.dumps(body).encode()
                self.send_response(status)
                self.send_header("content-type", "application/json")
                self.send_header("content-length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *words: object) -> None:
                """Tests are quiet."""

        self.server = HTTPServer((host, free_port(host)), Handler)
        self.issuer = f"http://{host}:{self.server.server_port}"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def metadata(self) -> Claims:
        return {
            "issuer": self.issuer_said or self.issuer,
            "authorization_endpoint": f"{self.issuer}/authorize",
            "token_endpoint": f"{self.issuer}/token",
            "jwks_uri": f"{self.issuer}/keys",
        }

    def code(self, nonce: str) -> str:
        """As if the person had signed in there."""
        code = f"code-{len(self.codes)}-{time.monotonic_ns()}"
        self.codes[code] = {"nonce": nonce}
        return code

    def token(self, begun: Claims) -> str:
        now = int(time.time())
        claims: Claims = {
            "iss": self.issuer,
            "aud": CLIENT,
            "sub": "s-1",
            "iat": now,
            "exp": now + 300,
            "auth_time": now,
            "preferred_username": "Mara.Holm@saltmere.example",
            "groups": ["deck"],
            **begun,
        }
        return self.signed(self.change(claims))

    def signed(self, claims: Claims) -> str:
        return jwt.encode({"alg": "ES256", "kid": self.key.kid}, claims, self.signs_with)


@pytest.fixture
def lying() -> Iterator[Lying]:
    made = Lying(loopback())
    yield made
    made.server.shutdown()
    made.server.server_close()


@pytest.fixture
def ours(lying: Lying, tmp_path: Path, database: str) -> Iterator[Service]:
    """A service that signs people on by it."""
    host = loopback()
    made = Service(tmp_path, database, host, free_port(host), further=settings_of(lying.issuer))
    try:
        made.start()
        made.set_up()
        yield made
    finally:
        made.stop()


def begin(service: Service) -> tuple[str, dict[str, str]]:
    """The handle, and what the address asks the provider for."""
    with Client(service.address) as client:
        begun = client.begin_provider_sign_in(ProviderBegin(redirect=HERE))
    asked = {name: values[0] for name, values in parse_qs(urlsplit(begun.address).query).items()}
    return begun.handle or "", asked


def sign_in(service: Service, lying: Lying) -> str:
    """As a client does it; the token."""
    handle, asked = begin(service)
    with Client(service.address) as client:
        wanted = ProviderSignIn(
            state=asked["state"], code=lying.code(asked["nonce"]), handle=handle
        )
        return client.sign_in_with_provider(wanted).token or ""


def refused(service: Service, lying: Lying) -> str:
    with pytest.raises(ProblemError) as problem:
        sign_in(service, lying)
    return problem.value.problem.detail


def test_groups_are_roles_and_the_providers_word_ends_sessions(ours: Service, lying: Lying) -> None:
    token = sign_in(ours, lying)
    with Client(ours.address, token) as client:
        signed = client.who_am_i()
        assert (signed.user, signed.role, signed.proved, signed.factors) == (
            "mara-holm",
            "operator",
            True,
            ["provider"],
        )
        assert client.systems() == []
    # more, and then less, by the groups of the next sign-in; what was begun as something else has
    # ended
    lying.change = lambda claims: {**claims, "groups": ["deck", "harbour-office"]}
    again = sign_in(ours, lying)
    with Client(ours.address, again) as client:
        assert client.who_am_i().role == "administrator"
    with Client(ours.address, token) as client, pytest.raises(ProblemError, match="not signed in"):
        client.who_am_i()
    # back-channel logout
    event: Claims = {"http://schemas.openid.net/event/backchannel-logout": {}}
    logout = {
        "iss": lying.issuer,
        "aud": CLIENT,
        "sub": "s-1",
        "iat": int(time.time()),
        "jti": "1",
        "events": event,
    }
    path = f"{ours.address}/api/v1/session/provider/logout"
    for wrong in ({**logout, "nonce": "x"}, {**logout, "events": {}}, {**logout, "aud": "another"}):
        told = httpx.post(path, data={"logout_token": lying.signed(wrong)}, trust_env=False)
        assert told.status_code == 401, told.text
    with Client(ours.address, again) as client:
        assert client.who_am_i().role == "administrator", "none of them ended anything"
        assert (
            httpx.post(
                path, data={"logout_token": lying.signed(logout)}, trust_env=False
            ).status_code
            == 204
        )
        with pytest.raises(ProblemError, match="not signed in"):
            client.who_am_i()
    with ours.client() as client:
        actions = [entry.action for entry in client.audit(100, about="mara-holm")]
        assert {
            "added by the provider",
            "changed by the provider",
            "ended the sessions of",
            "signed in",
        } <= {*actions}


def lies() -> list[tuple[Claims, str]]:
    """What a provider may say wrongly, and what is said of it."""
    return [
        ({"iss": "https://thief.example"}, "of another provider"),
        ({"aud": "another-program"}, "made for another program"),
        ({"aud": [CLIENT, "x"], "azp": "x"}, "given to another program"),
        ({"nonce": "another"}, "belongs to another sign-in"),
        ({"nonce": "fæ rø"}, "belongs to another sign-in"),
        ({"sub": ""}, "names nobody"),
        ({"sub": 7}, "names nobody"),
        ({"exp": 1}, "behind this clock"),
        ({"iat": int(time.time()) + 900}, "ahead of this clock"),
        ({"iat": "now"}, "does not say when"),
        ({"groups": "harbour-office"}, "None of your groups"),
        ({"groups": {"harbour-office": True}}, "None of your groups"),
        ({"groups": [["harbour-office"], 1, None]}, "None of your groups"),
        ({"groups": ["administrator"]}, "None of your groups"),
        ({"groups": ["x"] * 6000 + ["harbour-office"]}, "None of your groups"),
        ({"preferred_username": "harbour-admin"}, "A user harbour-admin exists here already"),
        ({"preferred_username": "\u202e<>"}, "gives no name"),
    ]


def test_what_a_provider_says_wrongly_lets_nobody_in(ours: Service, lying: Lying) -> None:
    for lie, said in lies():
        with psycopg.connect(ours.database.replace("+psycopg", "")) as database:
            database.execute("delete from sign_in_failures")
        lying.change = lambda claims, lie=lie: {**claims, **lie}  # type: ignore[misc]
        assert said in refused(ours, lying), lie
        with ours.client() as client:
            assert [user.name for user in client.users()] == ["harbour-admin"], lie
    assert "A mistake in Fennox" not in ours.log


def test_a_token_that_is_not_signed_by_it_is_refused_and_a_new_key_is_learned(
    ours: Service, lying: Lying
) -> None:
    lying.signs_with = ECKey.generate_key("P-256")
    assert "has not signed it" in refused(ours, lying)
    lying.signs_with = lying.key
    sign_in(ours, lying)
    lying.key = lying.signs_with = ECKey.generate_key("P-256", auto_kid=True)
    sign_in(ours, lying)
    lying.signed = lambda claims: "eyJhbGciOiJub25lIn0.eyJzdWIiOiJ4In0."  # type: ignore[method-assign]
    assert "has not signed it" in refused(ours, lying)


def test_no_answer_counts_twice_nor_for_another_sign_in(ours: Service, lying: Lying) -> None:
    handle, asked = begin(ours)
    other, others = begin(ours)
    assert asked["code_challenge_method"] == "S256"
    with Client(ours.address) as client:
        code = lying.code(asked["nonce"])
        for state, begun in ((others["state"], handle), ("fæ rø", begin(ours)[0])):
            crossed = ProviderSignIn(state=state, code=code, handle=begun)
            with pytest.raises(ProblemError, match="belongs to another sign-in"):
                client.sign_in_with_provider(crossed)
        wanted = ProviderSignIn(
            state=others["state"], code=lying.code(others["nonce"]), handle=other
        )
        assert client.sign_in_with_provider(wanted).token
        with pytest.raises(ProblemError, match="used already"):
            client.sign_in_with_provider(wanted)
        with pytest.raises(ProblemError, match=r"listens at http://127\.0\.0\.1"):
            client.begin_provider_sign_in(ProviderBegin(redirect="http://thief.example/"))


def test_a_provider_that_is_away_or_is_another_one_is_said_and_passwords_still_work(
    ours: Service, lying: Lying
) -> None:
    lying.issuer_said = "https://thief.example"
    with pytest.raises(ProblemError, match=r"says it is https://thief\.example"):
        begin(ours)
    lying.server.shutdown()
    lying.server.server_close()
    with pytest.raises(ProblemError, match="does not answer"):
        begin(ours)
    with Client(ours.address) as client:
        assert client.sign_in("harbour-admin", PASSWORD).token
    with ours.client() as client:
        assert client.status().systems == 0


def test_whoever_signed_in_long_ago_there_has_proved_nothing_now(
    ours: Service, lying: Lying
) -> None:
    lying.change = lambda claims: {
        **claims,
        "auth_time": int(time.time()) - 3600,
        "groups": ["harbour-office"],
    }
    with Client(ours.address, sign_in(ours, lying)) as client:
        assert not client.who_am_i().proved
        with pytest.raises(ProblemError, match="needs a proof"):
            client.remove_user("harbour-admin")
    lying.change = lambda claims: {**claims, "groups": ["harbour-office"]}
    with Client(ours.address, sign_in(ours, lying)) as client:
        assert client.who_am_i().proved


def test_a_person_signs_in_on_the_command_line_with_a_real_provider(
    tmp_path: Path, database: str
) -> None:
    """The provider is one that others have written; the browser is played by following its form."""
    with service_signing_on(tmp_path, database, loopback()) as (service, issuer):
        said = tmp_path / "said"
        said.touch()
        words = ["sign-in", service.address, "--provider", "--no-browser"]
        signing = programs.start(words, service.environment(), tmp_path, said=said, wrong=said)
        until(lambda: issuer in said.read_text(), "the address is printed")
        address = next(line for line in said.read_text().splitlines() if line.startswith(issuer))
        with httpx.Client(trust_env=False, timeout=30) as browser:
            back = browser.post(address, data={"sub": "mara"}).headers["location"]
            assert back.startswith("http://127.0.0.1:")
            assert "You can close this page" in browser.get(back).text
        assert signing.wait(60) == 0, said.read_text()
        saved = json.loads((tmp_path / "config/fennox/sign-in.json").read_text())
        with Client(service.address, saved["token"]) as client:
            assert (client.who_am_i().user, client.who_am_i().role) == ("mara", "administrator")
    with psycopg.connect(database.replace("+psycopg", "")) as rows:
        [(issuer_kept, subject, hash_)] = rows.execute(
            "select issuer, subject, password_hash from users where name = 'mara'"
        ).fetchall()
    assert (issuer_kept, subject, hash_) == (issuer, "mara", "")
