"""Three members of a real replicated directory (OpenLDAP), of which one comes back with an older
copy.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from fennox.client.api import Client
from fennox.core.restoring.sheet import Sheet
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin, NewStore
from saltmere import directory
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.conftest import install
from tests.places import free_port
from tests.service.restores.test_purposes import drafted
from tests.service.running import PASSPHRASE, Service, came_to, until

__all__ = ["install"]

pytestmark = pytest.mark.long
CREW = f"ou=crew,{directory.BASE}"


@dataclass
class Members:
    """``servers``: by their URLs; the first one is lost."""

    service: Service
    client: Client
    servers: dict[str, LinuxServer]
    key: tuple[str, str]

    @property
    def lost(self) -> LinuxServer:
        return next(iter(self.servers.values()))

    @property
    def others(self) -> list[LinuxServer]:
        return list(self.servers.values())[1:]

    def take(self) -> str:
        run = self.service.ended(self.client.take(NewTake(system="ldap-1")).id)
        assert run.state == "done", run.reason
        return str(came_to(run, "backup"))

    def reinstall(self) -> None:
        """At its address, with a bare system."""
        self.lost.lose()
        self.lost.install("debian", self.key[1])
        self.lost.start()
        directory.install(self.lost)
        directory.listen(self.lost, next(iter(self.servers)))

    def draft(self, backup: str, **more: object) -> str:
        self.reinstall()
        wanted = {"backup": backup, "purpose": "repair", "login": "root", "key": self.lost.host_key}
        return drafted(self.service, self.client, NewDraft.model_validate({**wanted, **more}))

    def sheet(self, sheet: str) -> Sheet:
        return self.client.sheet(sheet).sheet

    def restore(self, sheet: str) -> None:
        run = self.service.ended(self.client.start_restore(sheet).id)
        while run.state == "waiting":
            gate = self.sheet(sheet).open_gate()
            assert gate is not None
            run = self.service.ended(self.client.answer(sheet, gate.number, "skip").id)
        assert run.state == "done", (run.reason, self.sheet(sheet).proof)

    def mails(self, number: int) -> set[str]:
        """What each member says of one of the crew, by its own program."""
        return self._told(CREW, f"uid=crew-{number},", "mail: ", "nobody")

    def titles(self) -> set[str]:
        """Of the group of masters."""
        return self._told(f"ou=groups,{directory.BASE}", "cn=masters,", "description: ", "none")

    def _told(self, below: str, entry: str, line: str, otherwise: str) -> set[str]:
        found = set()
        for server in self.servers.values():
            entries = directory.search(server, below).split("\n\n")
            lines = [
                told
                for one in entries
                if one.startswith(f"dn: {entry}")
                for told in one.splitlines()
                if told.startswith(line)
            ]
            found.add(lines[0] if lines else otherwise)
        return found


@pytest.fixture
def members(
    service: Service, install: Callable[..., LinuxServer], key_pair: tuple[str, str]
) -> Iterator[Members]:
    if shutil.which("slapd", path="/usr/sbin") is None:
        pytest.skip("SKIPPED: slapd is not installed, so replicas of a real directory not proved")
    servers = [install(f"ldap-{number}") for number in (1, 2, 3)]
    for server in servers:
        directory.install(server)
    directory.configure(servers[0])
    by_url = {f"ldap://{one.host}:{free_port(one.host)}": one for one in servers}
    directory.join(by_url)
    (service.folder / "attic").mkdir()
    with service.proved() as client:
        attic = NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        client.add_store(attic)
        client.add_login(NewLogin(name="root", account="root", private_key=key_pair[0]))
        for number, server in enumerate(servers, 1):
            settings = {"ssh-restart": SSH_RESTART, "directory-stop": directory.STOP}
            settings["directory-start"] = directory.STARTED
            client.add_system(
                NewSystem(
                    name=f"ldap-{number}",
                    kind="openldap-directory",
                    address=f"{server.host}:{server.port}",
                    login="root",
                    key=server.host_key,
                    settings=settings,
                )
            )
        made = Members(service, client, by_url, key_pair)
        until(lambda: len(made.mails(30)) == 1, "all members have the same")
        yield made


def after_the_backup(members: Members) -> None:
    """What the others do: a mistake in two subtrees, one removal, and somebody new."""
    one = members.others[0]
    directory.modify(one, f"uid=crew-3,{CREW}", "mail", "mistake@saltmere.example")
    directory.modify(one, f"cn=masters,ou=groups,{directory.BASE}", "description", "a mistake")
    one.run("ldapdelete", "-Q", "-Y", "EXTERNAL", "-H", "ldapi:///", f"uid=crew-9,{CREW}")
    until(lambda: "nobody" in members.mails(9), "it is removed")


def test_an_older_copy_wins_whole(members: Members) -> None:
    backup = members.take()
    after_the_backup(members)
    sheet = members.draft(backup, peers="win")
    plan = members.sheet(sheet).replica
    assert plan is not None
    [reach] = plan.numbers
    assert reach.winner == "restored copy"
    assert len(reach.peers) == 2
    assert all(number > reach.backup for number in reach.peers.values())
    members.restore(sheet)
    assert members.mails(3) == {"mail: crew-3@saltmere.example"}
    assert members.mails(9) == {"mail: crew-9@saltmere.example"}
    assert members.titles() == {"none"}


def test_one_subtree_wins(members: Members) -> None:
    backup = members.take()
    after_the_backup(members)
    sheet = members.draft(backup, peers="win", claim=CREW)
    plan = members.sheet(sheet).replica
    assert plan is not None
    assert [one.winner for one in plan.numbers] == ["the claimed part alone"]
    members.restore(sheet)
    assert members.mails(3) == {"mail: crew-3@saltmere.example"}
    assert members.mails(9) == {"mail: crew-9@saltmere.example"}
    assert members.titles() == {"description: a mistake"}


def test_it_yields(members: Members) -> None:
    backup = members.take()
    after_the_backup(members)
    sheet = members.draft(backup, peers="yield")
    members.restore(sheet)
    assert members.mails(3) == {"mail: mistake@saltmere.example"}
    assert members.mails(9) == {"nobody"}
    assert members.titles() == {"description: a mistake"}
    proof = members.sheet(sheet).proof
    assert proof is not None
    assert "entries, which the peers decide" in proof.left_out_lists


def test_practice_never_meets_the_set(
    members: Members, install: Callable[..., LinuxServer], tmp_path: Path
) -> None:
    backup = members.take()
    after_the_backup(members)
    spare = install("spare")
    directory.install(spare)
    directory.listen(spare, f"ldap://{spare.host}:{free_port(spare.host)}")
    wanted = {"backup": backup, "purpose": "practise", "login": "root", "key": spare.host_key}
    draft = NewDraft.model_validate({**wanted, "at": f"{spare.host}:{spare.port}"})
    sheet = drafted(members.service, members.client, draft)
    members.restore(sheet)
    assert "olcSyncrepl" not in spare.run("slapcat", "-n", "0")
    assert members.titles() == {"description: a mistake"}
    assert "nobody" in members.mails(9)
