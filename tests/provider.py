"""An identity provider that others have written, on loopback: one person, mara, of the harbour
office.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx

from tests.places import free_port
from tests.service.running import Service, until

CLIENT = "fennox-at-saltmere"
ROLES = {"harbour-office": "administrator", "deck": "operator", "auditors": "auditor"}


@contextmanager
def identity_provider() -> Iterator[str]:
    """Its issuer, once it answers."""
    port = free_port("127.0.0.1")
    issuer = f"http://127.0.0.1:{port}"
    users = json.dumps({"sub": "mara", "preferred_username": "mara", "groups": ["harbour-office"]})
    words = ["-m", "oidc_provider_mock", "--port", str(port), "--user-claims", users]
    provider = subprocess.Popen([sys.executable, "-W", "ignore", *words], stderr=subprocess.DEVNULL)
    try:
        until(
            lambda: _answers(f"{issuer}/.well-known/openid-configuration"), "the provider answers"
        )
        yield issuer
    finally:
        provider.kill()
        provider.wait()


@contextmanager
def service_signing_on(
    folder: Path, database: str, host: str, named: str = ""
) -> Iterator[tuple[Service, str]]:
    """A set-up service that signs people on by such a provider, and the provider's issuer.

    ``named``: the host's name, where people reach the service by it.
    """
    secret = folder / "oidc-secret"
    secret.write_text("made up for a test\n")
    secret.chmod(0o600)
    with identity_provider() as issuer:
        port = free_port(host)
        public = f"http://{named}:{port}" if named else ""
        further = settings_of(issuer) | {"FENNOX_OIDC_SECRET_FILE": str(secret)}
        service = Service(folder, database, host, port, public=public, further=further)
        try:
            service.start()
            service.set_up()
            yield service, issuer
        finally:
            service.stop()


def settings_of(issuer: str) -> dict[str, str]:
    """What a service needs to sign people on by it."""
    return {
        "FENNOX_OIDC_ISSUER": issuer,
        "FENNOX_OIDC_CLIENT": CLIENT,
        "FENNOX_OIDC_ROLES": json.dumps(ROLES),
        "FENNOX_OIDC_TITLE": "the harbour's own sign-on",
    }


def _answers(address: str) -> bool:
    try:
        return httpx.get(address, trust_env=False).status_code == 200
    except httpx.HTTPError:
        return False
