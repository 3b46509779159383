"""Fennox itself as a system: kept like any other, and brought back after everything but one far
store is gone.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from fennox.catalogue.models.base import Base
from fennox.client.api import Client, ProblemError
from fennox.core.kind_files.loading import load as load_kind
from fennox.service.machines.own_state_link import KEPT, LEFT_OUT, SCHEMA
from fennox.wire.access import NewUser
from fennox.wire.backups import NewTake
from fennox.wire.comparing import CompareWanted, TraceWanted
from fennox.wire.ownstate import OwnStateWanted
from fennox.wire.routines import NewRoutine
from fennox.wire.stores import NewLogin, NewStore
from saltmere.linux import LinuxServer
from tests.places import free_port, loopback
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, PASSWORD, Service, came_to, until
from tests.stores import servers
from tests.stores.servers import Place

Pair = tuple[str, str]
KIND = Path(__file__).parents[3] / "src/fennox/kinds/fennox.toml"
DEPOT_SECRET = "what the depot alone must know"


@pytest.fixture
def depot(tmp_path: Path) -> Iterator[Place]:
    (tmp_path / "depot").mkdir()
    with servers.openssh(tmp_path / "depot") as place:
        yield place


def test_every_table_is_kept_or_left_out_on_purpose_and_the_kind_takes_those_that_are_kept() -> (
    None
):
    assert KEPT.keys() | LEFT_OUT == Base.metadata.tables.keys()
    assert not KEPT.keys() & LEFT_OUT
    kind = load_kind(KIND.read_text())
    asked = {
        source.ask.fetch.path
        for part in kind.part
        for source in part.source
        if source.ask is not None
    }
    assert asked == {f"/tables/{name}" for name in [*KEPT, SCHEMA]}


def test_no_secret_leaves_the_database_in_clear(service: Service) -> None:
    (service.folder / "attic").mkdir()
    with service.client() as client:
        client.add_store(
            NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        )
        client.add_login(NewLogin(name="depot", account="depot", password=DEPOT_SECRET))
        with pytest.raises(ProblemError, match="lost together with this machine"):
            client.keep_own_state(OwnStateWanted(store="attic"))
        state = client.keep_own_state(OwnStateWanted(store="attic", on_this_machine=True))
        assert state.warnings == [
            "It is kept only on the machine that runs Fennox, and is lost with it."
        ]
        until(lambda: client.own_state().newest is not None, "the own state is taken")
        [backup] = client.backups()
    assert "What was changed" not in service.log
    phrase = service.file("pass", PASSPHRASE + "\n")
    done = service.fennox(
        "rescue",
        "extract",
        str(service.folder / "attic"),
        backup.id,
        "out",
        "--passphrase-file",
        phrase,
    )
    assert done.returncode == 0, done.stderr
    written = {path.name: path.read_bytes() for path in (service.folder / "out/settings").iterdir()}
    assert b'"name":"depot"' in written["logins.json"]
    assert all(DEPOT_SECRET.encode() not in data for data in written.values())
    steps = service.fennox(
        "rescue", "steps", str(service.folder / "attic"), backup.id, "--passphrase-file", phrase
    )
    assert "fennox rebuild" in steps.stdout
    refused = service.fennox("restore", "draft", backup.id, "--repair")
    assert "fennox rebuild" in refused.stderr


def test_everything_comes_back_from_a_far_store_and_a_passphrase(
    service: Service,
    server: LinuxServer,
    key_pair: Pair,
    depot: Place,
    second_database: str,
    tmp_path: Path,
) -> None:
    held, later = _a_service_with_something_to_lose(service, server, key_pair, depot)
    log_before = service.log
    service.stop()
    shutil.rmtree(service.folder / "state")
    shutil.rmtree(service.folder / "attic")

    new = Service(tmp_path / "new-machine", second_database, loopback(), 0)
    new.port = free_port(new.host)
    new.folder.mkdir()
    key = new.file("depot-key", depot.credential.private_key or "")
    phrase = new.file("pass", PASSPHRASE + "\n")
    command = ("rebuild", depot.url, "--account", depot.credential.account, "--key", key)
    assert depot.key is not None
    assert new.fennox(*command, "--passphrase-file", phrase, "--yes").returncode == 5, (
        "the key is not accepted"
    )
    accepted = (*command, "--accept-key", depot.key)
    wrong = new.fennox(
        *accepted, "--passphrase-file", new.file("wrong", "no such words here\n"), "--yes"
    )
    assert wrong.returncode == 1
    assert "opens none" in wrong.stderr
    asked = new.fennox(*accepted, "--passphrase-file", phrase)
    assert asked.returncode == 5
    assert "1 routines" in asked.stderr or "2 routines" in asked.stderr
    done = new.fennox(*accepted, "--passphrase-file", phrase, "--yes")
    assert done.returncode == 0, done.stderr
    assert "STILL TO DO" not in done.stderr
    again = new.fennox(*accepted, "--passphrase-file", phrase, "--yes")
    assert again.returncode == 1
    assert "in use" in again.stderr

    try:
        new.start()
        with Client(new.address) as client:
            new.token = client.sign_in("harbour-admin", PASSWORD).token or ""
        _everything_is_there(new, held, later)
        for text in (log_before, new.log):
            assert DEPOT_SECRET not in text
            assert PASSPHRASE not in text
    finally:
        new.stop()


def _a_service_with_something_to_lose(
    service: Service, server: LinuxServer, key_pair: Pair, depot: Place
) -> tuple[str, str]:
    """A held backup, and one that was taken after the own state was kept."""
    enrol(service, server, key_pair[0])
    with service.client() as client:
        client.add_login(
            NewLogin(
                name="depot",
                account=depot.credential.account,
                private_key=depot.credential.private_key,
            )
        )
        client.add_login(NewLogin(name="spare", account="spare", password=DEPOT_SECRET))
        client.add_store(
            NewStore(name="depot", address=depot.url, login="depot", key=depot.key, site="gannet")
        )
        client.add_user(
            NewUser(name="night-watch", role="operator", password="six anchors in the fog bank")
        )
        client.add_routine(
            NewRoutine(
                name="nightly",
                systems="all",
                when="every day at 02:40",
                store="depot",
                ladder="daily for 9 days, always 2",
            )
        )
        held = str(
            came_to(service.ended(client.take(NewTake(system="web-9", store="attic")).id), "backup")
        )
        copied = client.copy(held, "depot")
        assert service.ended(copied.id).state == "done"
        state = client.keep_own_state(OwnStateWanted(store="depot", copy_to=["attic"]))
        assert (state.kept, state.stores, state.warnings) == (True, ["depot", "attic"], [])
        until(
            lambda: client.own_state().held_in == ["attic", "depot"],
            "the own state lies in both stores",
        )
        client.hold(held, "before the storm")
        later = str(
            came_to(service.ended(client.take(NewTake(system="web-9", store="depot")).id), "backup")
        )
        shown = service.fennox("own-state", "show").stdout
        assert f"fennox rebuild {depot.url}" in shown
    return held, later


def _everything_is_there(new: Service, held: str, later: str) -> None:
    with new.client() as client:
        assert [routine.name for routine in client.routines()] == ["nightly", "own-state"]
        assert [user.name for user in client.users()] == ["harbour-admin", "night-watch"]
        assert {system.name for system in client.systems()} == {"fennox", "web-9"}
        adopting = [run for run in client.runs() if run.kind == "adopt"]
        assert {run.store for run in adopting} == {"attic", "depot"}
        ended = {run.store: new.ended(run.id).state for run in adopting}
        assert ended == {"attic": "failed", "depot": "done"}
        backups = {backup.id: backup for backup in client.backups()}
        assert later in backups, "what was taken after the own state was kept is found in the store"
        assert (backups[held].held, backups[held].held_because) == (True, "before the storm")
        run = new.ended(client.take(NewTake(system="web-9", store="depot")).id)
        assert run.state == "done", run.reason
        assert int(came_to(run, "new_bytes") or 0) < 20_000, "it shares what lies there"
        assert came_to(run, "unchanged") is False, (
            "what the last take saw is not part of the own state, so it is not known"
        )
        own = new.ended(client.take(NewTake(system="fennox", store="depot")).id)
        assert own.state == "done", own.reason
        assert client.store("depot").custody == "kept"
        interrupted = [run for run in client.runs() if run.state == "stopped"]
        assert all("rebuilt" in run.reason for run in interrupted)


def test_what_the_service_knows_of_itself_is_for_administrators_alone(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    """Export gave an operator the hashes of all passwords and tokens, and shadow files and host
    keys of machines.
    """
    enrol(service, server, key_pair[0])
    with service.client() as client:
        held = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
        client.keep_own_state(OwnStateWanted(store="attic", on_this_machine=True))
        until(lambda: client.backups(system="fennox") != [], "the own state is kept")
        until(lambda: not client.runs(state="running"), "nothing goes on")
        [own, *_] = client.backups(system="fennox")
        compared = CompareWanted(before=own.id, after=own.id)
    with service.another("night-watch", "operator") as operator:
        token = operator.http.headers["authorization"].removeprefix("Bearer ")
        for asked in (
            lambda: operator.compare(compared),
            lambda: operator.compare_as_patch(compared),
            lambda: operator.trace(TraceWanted(system="fennox", document="users.json")),
        ):
            with pytest.raises(ProblemError, match="Only an administrator sees Fennox's own state"):
                asked()
        for backup in (own.id, held):
            told = httpx.post(
                f"{service.address}/api/v1/backups/{backup}/export",
                json={},
                headers={"authorization": f"Bearer {token}"},
                trust_env=False,
            )
            assert (told.status_code, told.json()["type"]) == (403, "urn:fennox:not-allowed")
        assert operator.compare(CompareWanted(before=held, after=held)).comparison is not None
