"""A restore that somebody starts again while it goes on, as people do on a bad night."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from threading import Event

import pytest

from fennox.client.api import ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.restores import NewDraft
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import Service, came_to


@pytest.fixture
def sheet(service: Service, server: LinuxServer, key_pair: tuple[str, str]) -> str:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        backup = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
        return str(
            came_to(
                service.ended(client.draft(NewDraft(backup=backup, purpose="repair")).id), "sheet"
            )
        )


@pytest.mark.long
def test_to_start_it_again_while_it_goes_on_is_the_same_run_and_ends_nothing(
    service: Service, sheet: str
) -> None:
    over = Event()
    runs: set[str] = set()

    def press() -> None:
        with service.client() as client:
            while not over.is_set():
                try:
                    started = client.start_restore(sheet)
                except ProblemError as error:
                    assert "has been carried out" in str(error), error  # noqa: PT017
                    return
                if over.is_set() or started.state not in ("queued", "running"):
                    return
                runs.add(started.id)

    with service.client() as client:
        first = client.start_restore(sheet).id
        with ThreadPoolExecutor(6) as pool:
            pressing = [pool.submit(press) for _ in range(6)]
            try:
                ended = service.ended(first)
            finally:
                over.set()
            for one in pressing:
                one.result()
        assert (ended.state, ended.reason) == ("done", "")
        assert runs == {first}
        assert client.sheet(sheet).sheet.state == "proved"
        assert [run.id for run in client.runs(kind="restore")] == [first]
    assert "mistake in Fennox" not in service.log


def test_a_key_of_another_request_starts_nothing(service: Service, sheet: str) -> None:
    key = {"idempotency-key": "once-only"}
    with service.client() as client:
        taken = client.http.post("/backups", json={"system": "web-9"}, headers=key)
        assert taken.status_code == 202
        service.ended(taken.json()["id"])
        started = client.http.post(f"/restores/{sheet}/start", headers=key)
        assert started.status_code == 409
        assert "has started another run: the take" in started.json()["detail"]
        assert client.runs(kind="restore") == []
        again = client.http.post("/backups", json={"system": "web-9"}, headers=key)
        assert again.json()["id"] == taken.json()["id"]
