"""Signing in against whoever tries passwords, and what ends with a session."""

from __future__ import annotations

import ssl
from concurrent.futures import ThreadPoolExecutor

import httpx
import psycopg
import pytest

from fennox.wire.backups import NewTake
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import OTHER_PASSWORD, PASSWORD, Service, came_to, until

PHRASE = "six anchors in the fog bank"
WRONG = "made up"
_UNUSED = ssl.create_default_context()  # the service speaks plain HTTP; each takes 20 ms to make


def try_in(service: Service, user: str, password: str, **headers: str) -> httpx.Response:
    return httpx.post(
        f"{service.address}/api/v1/session",
        json={"user": user, "password": password, "token": True},
        headers=headers,
        trust_env=False,
        timeout=60,
        verify=_UNUSED,
    )


def test_nobody_passes_the_throttle_by_saying_where_they_call_from(service: Service) -> None:
    """Twenty of twenty tries passed, each with another X-Forwarded-For."""
    codes = [
        try_in(service, f"nobody-{n}", WRONG, **{"x-forwarded-for": f"10.9.0.{n}"}).status_code
        for n in range(12)
    ]
    assert codes == [401] * 8 + [429] * 4
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        seen = database.execute(
            "select distinct subject from sign_in_failures where subject like 'address%'"
        ).fetchall()
    assert len(seen) == 1, "it is the caller's own address"
    with service.client() as client:
        assert client.users(), "a token that is known still passes"


@pytest.mark.real_hashes
def test_many_tries_at_a_time_are_no_way_round_the_throttle(service: Service) -> None:
    """They were counted after their passwords had been checked, so that all of them passed."""
    with ThreadPoolExecutor(24) as pool:
        codes = list(
            pool.map(
                lambda n: try_in(service, "harbour-admin", f"made up {n}").status_code, range(24)
            )
        )
    assert codes.count(401) == 8
    assert set(codes) <= {401, 429, 503}
    assert try_in(service, "harbour-admin", PASSWORD).status_code == 429


@pytest.mark.long
@pytest.mark.real_hashes
def test_many_right_ones_at_a_time_wait_for_their_turn(service: Service) -> None:
    with ThreadPoolExecutor(12) as pool:
        answers = list(pool.map(lambda _: try_in(service, "harbour-admin", PASSWORD), range(12)))
    assert [answer.status_code for answer in answers] == [200] * 12
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        assert database.execute("select count(*) from sign_in_failures").fetchone() == (0,)


def test_a_name_that_is_none_is_refused_and_not_a_mistake_of_ours(service: Service) -> None:
    for user in ("x" * 3000, "a\0b", "\\ud800", "\u202ea", ""):
        body = f'{{"user": "{user}", "password": "made up"}}'.replace("\0", "\\u0000")
        answer = httpx.post(
            f"{service.address}/api/v1/session",
            content=body.encode(),
            trust_env=False,
            headers={"content-type": "application/json"},
        )
        assert answer.status_code in (400, 401, 422), (user, answer.text)
    assert "A mistake in Fennox" not in service.log


def test_an_address_with_a_nul_is_refused_and_not_a_mistake_of_ours(service: Service) -> None:
    for path in ("/%00", "/api/v1/%00", "/assets/%00.js"):
        answer = httpx.get(f"{service.address}{path}", trust_env=False)
        assert answer.status_code in (404, 422), path
    known = {"authorization": f"Bearer {service.token}"}
    for path in ("systems/a%00b", "systems?q=%00", "backups?system=%00", "runs/%00/events"):
        address = f"{service.address}/api/v1/{path}"
        answer = httpx.get(address, headers=known, trust_env=False)
        assert answer.status_code in (404, 422), path
    assert "A mistake in Fennox" not in service.log


def test_a_stream_ends_with_the_session_that_it_began_under(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    """Whoever had signed out, or was removed, went on to read what happens."""
    enrol(service, server, key_pair[0], custody="apart")
    with service.client() as client:
        service.another("night-watch", "reader").http.close()
        token = try_in(service, "night-watch", OTHER_PASSWORD).json()["token"]
        backup = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
        run = client.verify(backup).id
        until(lambda: client.run(run).wants_passphrase, "it waits for somebody")
        with httpx.stream(
            "GET",
            f"{service.address}/api/v1/runs/{run}/events",
            trust_env=False,
            timeout=60,
            headers={"authorization": f"Bearer {token}"},
        ) as stream:
            lines = stream.iter_lines()
            assert next(lines) == "event: run"
            client.remove_user("night-watch")
            client.stop_run(run)
            left = "".join(lines)
        assert "stopped" not in left, "nothing more is sent"
