"""A login goes only where it belongs, and a restore only onto what it says, whoever asks."""

from __future__ import annotations

import json
import socket
import threading
from collections.abc import Callable, Iterator

import pytest

from fennox.client.api import Client, ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin, NewLoginPlace
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair
from tests.service.conftest import enrol
from tests.service.relay import Relay
from tests.service.running import Service, came_to

Install = Callable[..., LinuxServer]
Pair = tuple[str, str]

PHRASE = "six anchors in the fog bank"


@pytest.fixture
def backup(service: Service, server: LinuxServer, key_pair: Pair) -> str:
    """Of web-9, with an operator, who may draft restores of it."""
    enrol(service, server, key_pair[0])
    with service.client() as client:
        return str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))


@pytest.fixture
def operator(service: Service, backup: str) -> Iterator[Client]:
    with service.another("night-watch", "operator") as client:
        yield client


def at(server: LinuxServer) -> str:
    return f"{server.host}:{server.port}"


class Trap:
    """A machine of somebody's own: counts who comes."""

    def __init__(self) -> None:
        self.came = 0
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.address = f"127.0.0.1:{self._socket.getsockname()[1]}"
        threading.Thread(target=self._welcome, daemon=True).start()

    def _welcome(self) -> None:
        while True:
            try:
                self._socket.accept()[0].close()
            except OSError:
                return
            self.came += 1


def test_an_operator_aims_no_login_at_a_machine_of_their_own(backup: str, operator: Client) -> None:
    """Any stored password was sent to any machine, with `--at` and `--accept-key`."""
    trap = Trap()
    for key in ("SHA256:of-their-own", None):
        for entrance in (False, True):
            wanted = NewDraft(
                backup=backup, purpose="replace", at=trap.address, login="quay-root", key=key
            )
            if entrance:
                wanted = NewDraft(backup=backup, purpose="replace", at=trap.address, key=key)
            with pytest.raises(ProblemError, match="does not belong at") as refused:
                operator.draft(wanted)
            assert refused.value.slug == "not-allowed"
            assert "fennox login admit" in refused.value.problem.remedy
    assert trap.came == 0, "nothing even connects"


def test_an_operator_accepts_no_other_key_at_a_systems_address(
    backup: str, operator: Client, server: LinuxServer
) -> None:
    with pytest.raises(ProblemError, match=r"does not belong at .* with the key SHA256:another"):
        operator.draft(NewDraft(backup=backup, purpose="repair", key="SHA256:another"))
    drafted = operator.draft(NewDraft(backup=backup, purpose="repair", key=server.host_key))
    assert drafted.kind == "draft"


def test_where_an_administrator_has_admitted_a_login_an_operator_restores_by_it(
    service: Service, backup: str, operator: Client, install: Install
) -> None:
    private, public = new_key_pair("fresh")
    fresh = install("debian", public)
    wanted = NewDraft(backup=backup, purpose="replace", at=at(fresh), login="fresh-root")
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
        with pytest.raises(ProblemError, match="does not belong at"):
            operator.draft(wanted)
        with pytest.raises(ProblemError) as refused:
            operator.admit_login("fresh-root", NewLoginPlace(address=at(fresh), key=fresh.host_key))
        assert refused.value.slug == "not-allowed"
        asked = service.fennox("login", "admit", "fresh-root", "--at", at(fresh))
        assert asked.returncode == 5
        assert fresh.host_key in asked.stderr
        admitted = service.fennox(
            "login", "admit", "fresh-root", "--at", at(fresh), "--accept-key", fresh.host_key
        )
        assert f"{at(fresh)} with {fresh.host_key}" in admitted.stdout, admitted.stderr
        drafted = service.ended(operator.draft(wanted).id)
        assert drafted.state == "done", drafted.reason
        place = client.sheet(str(came_to(drafted, "sheet"))).sheet.target
        assert (place.address, place.key) == (at(fresh), fresh.host_key)
        entries = json.loads(service.fennox("audit", "list", "--json").stdout)
        [entry] = [entry for entry in entries if entry["action"] == "drafted a restore"]
        assert entry["by"] == "night-watch"
        assert {"login": "fresh-root", "at": at(fresh), "key": fresh.host_key}.items() <= entry[
            "details"
        ].items()
        assert at(fresh) in service.fennox("login", "list").stdout
        assert service.fennox("login", "revoke", "fresh-root", "--at", at(fresh)).returncode == 0
        with pytest.raises(ProblemError, match="does not belong at"):
            operator.draft(wanted)
        again = service.fennox("login", "revoke", "fresh-root", "--at", at(fresh))
        assert "was not admitted at" in again.stderr


def test_a_backup_is_not_written_onto_the_machine_of_another_system(
    service: Service, backup: str, install: Install, key_pair: Pair
) -> None:
    """A changed authorized_keys, drafted at the address of another system, was written there."""
    other = install("quay-mail")
    with service.client() as client:
        client.add_system(
            NewSystem(
                name="quay-mail",
                kind="linux-server",
                address=at(other),
                login="quay-root",
                key=other.host_key,
                settings={"ssh-restart": SSH_RESTART},
            )
        )
        wanted = NewDraft(
            backup=backup, purpose="replace", at=at(other), login="quay-root", key=other.host_key
        )
        with pytest.raises(ProblemError, match="is quay-mail, which is enrolled"):
            client.draft(wanted)
        door = Relay((other.host, other.port))
        by_another_door = wanted.model_copy(update={"at": f"{door.host}:{door.port}"})
        with pytest.raises(ProblemError, match=r"with the key SHA256:.* is quay-mail"):
            client.draft(by_another_door)
        other.stop()
        other.renew_host_key()  # as after a reinstallation that kept the machine's id
        other.start()
        drafted = service.ended(
            client.draft(by_another_door.model_copy(update={"key": other.host_key})).id
        )
        assert drafted.state == "done", drafted.reason
        sheet = str(came_to(drafted, "sheet"))
        [blocker] = client.sheet(sheet).sheet.blockers()
        assert (
            blocker.text
            == "The machine is quay-mail, which is enrolled; a backup of web-9 is not written"
            " onto it."
        )
        with pytest.raises(ProblemError, match="has a blocker: The machine is quay-mail"):
            client.start_restore(sheet)
    with service.another("night-watch", "operator", scope=["name=web-9"]) as narrow:
        asked: list[Callable[[], object]] = [
            lambda: narrow.draft(wanted),
            lambda: narrow.start_restore(sheet),
            # it shows what lies on the other machine, whose very host name would name it
            lambda: narrow.sheet(sheet),
        ]
        for ask in asked:
            with pytest.raises(ProblemError, match="is another enrolled system") as refusal:
                ask()
            assert "quay-mail" not in json.dumps(refusal.value.problem.model_dump())
    both = ["name=web-9", "name=quay-mail"]
    with service.another("both-watches", "operator", scope=both) as wide:
        assert "quay-mail" in wide.sheet(sheet).model_dump_json()
    door.close()
