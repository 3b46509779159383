"""Stores over a network as a user meets them: accepted keys, tests, browsing, changes,
forgetting.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import asyncssh
import psycopg
import pytest

from fennox.client.api import ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.stores import Look, NewLogin, NewStore, StoreChange
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, Service, came_to
from tests.stores import servers
from tests.stores.servers import Place

Pair = tuple[str, str]


@pytest.fixture
def depot(tmp_path: Path) -> Iterator[Place]:
    (tmp_path / "depot").mkdir()
    with servers.openssh(tmp_path / "depot") as place:
        yield place


def add_login(service: Service, depot: Place) -> None:
    with service.client() as client:
        key = depot.credential.private_key
        client.add_login(NewLogin(name="depot", account=depot.credential.account, private_key=key))


def wanted(depot: Place, **changes: object) -> NewStore:
    fixed = {
        "name": "depot",
        "address": depot.url,
        "login": "depot",
        "passphrase": PASSPHRASE,
        "key": depot.key,
    }
    return NewStore(**{**fixed, **changes})


def test_a_far_store_is_looked_at_accepted_proved_and_used(
    service: Service, server: LinuxServer, depot: Place, key_pair: Pair
) -> None:
    add_login(service, depot)
    (depot.folder / "older").mkdir()
    with service.client() as client:
        with pytest.raises(ProblemError) as unknown:
            client.look(Look(address=depot.url, login="depot"))
        assert unknown.value.slug == "key-unknown"
        seen = client.look(Look(address=depot.url, login="depot", key=depot.key))
        assert [(entry.name, entry.folder) for entry in seen.entries] == [("older", True)]
        assert not seen.is_store
        with pytest.raises(ProblemError):
            client.add_store(wanted(depot, key=None))
        assert list(depot.folder.iterdir()) == [depot.folder / "older"]
        with pytest.raises(ProblemError, match="is not empty: it holds older"):
            client.add_store(wanted(depot))
        made = client.add_store(wanted(depot, beside=True))
        assert made.address == depot.url
        tested = client.test_store("depot")
        assert tested.passed, tested
        details = {check.title: check.detail for check in tested.checks}
        assert "not from Fennox: older" in details["List what is there"]
        assert depot.credential.account in details["Log in"]
        assert "refused" in details["Never overwrite"]
    enrol(service, server, key_pair[0])
    with service.client() as client:
        run = service.ended(client.take(NewTake(system="web-9", store="depot")).id)
        assert run.state == "done"
        assert client.browse("depot", None).is_store
        [backup] = client.backups()
        assert backup.stores == ["depot"]


def test_a_login_that_cannot_delete_takes_and_another_one_sweeps(
    service: Service, server: LinuxServer, depot: Place, key_pair: Pair
) -> None:
    assert depot.keeping is not None
    enrol(service, server, key_pair[0])
    with service.client() as client:
        client.add_login(
            NewLogin(name="keeps", account="root", private_key=depot.keeping.private_key)
        )
        client.add_login(
            NewLogin(name="sweeps", account="root", private_key=depot.credential.private_key)
        )
        with pytest.raises(ProblemError, match="Not permitted to remove"):
            client.add_store(wanted(depot, login="keeps"))
        made = client.add_store(wanted(depot, login="keeps", sweep_login="sweeps"))
        assert (made.login, made.sweep_login) == ("keeps", "sweeps")
        details = {check.title: check.detail for check in client.test_store("depot").checks}
        assert "refused to the login that takes, as it should be" in details["Delete"]
        assert service.ended(client.take(NewTake(system="web-9", store="depot")).id).state == "done"
        rest = depot.folder / "packs/.0123456789abcdef.tmp"
        rest.write_bytes(b"left by a run that died")
        os.utime(rest, (1_000_000, 1_000_000))
        swept = service.ended(client.sweep("depot", preview=False).id)
        assert (swept.state, came_to(swept, "unfinished")) == ("done", 1), swept.reason
        assert not rest.exists()
        with pytest.raises(ProblemError, match="is used by"):
            client.remove_login("sweeps")
        assert client.change_store("depot", StoreChange(sweep_login="")).sweep_login is None
        refused = service.ended(client.scrub("depot").id)
        assert refused.state == "done", "reading needs no right to remove"
        assert [check.title for check in client.test_store("depot").checks if not check.passed] == [
            "Delete"
        ]


def test_a_known_hosts_file_may_name_the_authority_that_signs_for_the_host(
    service: Service, tmp_path: Path
) -> None:
    authority = asyncssh.generate_private_key("ssh-ed25519")
    (tmp_path / "signed").mkdir()
    with servers.openssh(tmp_path / "signed", authority=authority) as place:
        add_login(service, place)
        host, port = place.url.split("/")[2].split(":")
        public = authority.export_public_key().decode().strip()
        known = service.file("known", f"@cert-authority [{host}]:{port} {public}\n")
        phrase = service.file("pass", PASSPHRASE + "\n")
        words = (
            "store",
            "add",
            "depot",
            place.url,
            "--login",
            "depot",
            "--passphrase-file",
            phrase,
            "--known-hosts",
        )
        empty = service.fennox(*words, service.file("empty", "# nobody\n"))
        assert empty.returncode == 5
        assert "does not stand in" in empty.stderr
        key = place.key or ""
        at = (*words[:-1], "--accept-list")
        broken = service.fennox(*at, service.file("broken", f"{host}:{port}\n"))
        assert broken.returncode == 2
        assert "Line 1 of" in broken.stderr
        other = service.fennox(*at, service.file("other", f"{host}:1 {key}  # another port\n"))
        assert other.returncode == 5
        assert "does not stand in" in other.stderr
        seen = ("store", "browse", place.url, "--login", "depot", "--accept-list")
        assert (
            service.fennox(
                *seen, service.file("list", f"# compared\n{host}:{port} {key}\n")
            ).returncode
            == 0
        )
        added = service.fennox(*words, known)
        assert added.returncode == 0, added.stderr
        with service.client() as client:
            assert client.store("depot").key == f"ca:{authority.get_fingerprint('sha256')}"


def test_a_changed_host_key_stops_the_store_until_it_is_accepted(
    service: Service, depot: Place
) -> None:
    add_login(service, depot)
    with service.client() as client:
        client.add_store(wanted(depot))
        with pytest.raises(ProblemError) as changed:
            client.change_store("depot", StoreChange(key="SHA256:" + "A" * 43))
        assert changed.value.slug == "key-changed"
        assert client.store("depot").key == depot.key
        assert client.change_store("depot", StoreChange(name="pier", site="holm")).site == "holm"
        assert client.store("pier").name == "pier"


def test_a_plain_protocol_and_a_weak_password_are_said_in_words(
    service: Service, tmp_path: Path
) -> None:
    (tmp_path / "ftp").mkdir()
    with servers.pyftpdlib(tmp_path / "ftp", secure=False) as place, service.client() as client:
        client.add_login(NewLogin(name="depot", account="depot", password=servers.PASSWORD))
        store = client.add_store(
            NewStore(name="pier", address=place.url, login="depot", passphrase=PASSPHRASE)
        )
        assert store.plain
        assert any("plain" in text for text in store.warnings)
        assert any("easily guessed" in text for text in store.warnings) is False
        client.add_login(NewLogin(name="twin", account="quartermaster", password=servers.PASSWORD))
        assert any("same password as twin" in text for text in client.store("pier").warnings)
        assert servers.PASSWORD not in service.log


def test_a_store_inside_a_store_is_refused(service: Service) -> None:
    with service.client() as client:
        outer = service.folder / "outer"
        outer.mkdir()
        client.add_store(NewStore(name="outer", address=str(outer), passphrase=PASSPHRASE))
        (outer / "inner").mkdir()
        with pytest.raises(ProblemError, match="inside the store"):
            client.add_store(NewStore(name="inner", address=str(outer / "inner")))
        assert list((outer / "inner").iterdir()) == []


def test_a_forgotten_store_keeps_what_lies_in_it(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        service.ended(client.take(NewTake(system="web-9")).id)
        before = sorted(path for path in (service.folder / "attic").rglob("*") if path.is_file())
        assert client.remove_store("attic").backups == 1
        assert client.backups() == []
        assert (
            sorted(path for path in (service.folder / "attic").rglob("*") if path.is_file())
            == before
        )


def test_what_sweeps_removed_is_listed_by_name_and_of_a_system_that_never_was_nothing_is_said(
    service: Service,
) -> None:
    (service.folder / "attic").mkdir()
    with service.client() as client:
        store = client.add_store(
            NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        )
        with psycopg.connect(service.database.replace("+psycopg", "")) as database:
            database.execute(
                "insert into removals (store_id, system_id, system, backup_id, name, time,"
                " sequence, size, why, at, run_id) values (%s, 's', 'web-9', 'b', 'before the"
                " storm', now(), 1, 100, 'no ladder', now(), 'r')",
                [store.id],
            )
        assert [item.name for item in client.removals(system="web-9")] == ["before the storm"]
        with pytest.raises(ProblemError, match="There is no system web-99"):
            client.removals(system="web-99")
    shown = service.fennox("backup", "list", "--removed")
    assert "before the storm" in shown.stdout
    assert service.fennox("backup", "list", "--removed", "--system", "web-99").returncode == 3


def test_the_command_line_adds_looks_and_forgets(service: Service, depot: Place) -> None:
    add_login(service, depot)
    phrase = service.file("pass", PASSPHRASE + "\n")
    refused = service.fennox(
        "store", "add", "depot", depot.url, "--login", "depot", "--passphrase-file", phrase
    )
    assert refused.returncode == 5
    assert f"--accept-key {depot.key}" in refused.stderr
    host, port = depot.url.split("/")[2].split(":")
    public = (depot.folder.parent / "sshd/host.pub").read_text().strip()
    known = service.file("known_hosts", f"[{host}]:{port} {public}\n")
    added = service.fennox(
        "store",
        "add",
        "depot",
        depot.url,
        "--login",
        "depot",
        "--passphrase-file",
        phrase,
        "--known-hosts",
        known,
    )
    assert added.returncode == 0, added.stderr
    assert depot.key is not None
    assert depot.key in added.stdout
    browsed = service.fennox("store", "browse", "depot")
    assert "READ-ME-FIRST.txt" in browsed.stdout
    assert "This is a store of Fennox." in browsed.stderr + browsed.stdout
    own = service.file("own", depot.credential.private_key or "")
    rescue = (
        "rescue",
        "list",
        depot.url,
        "--account",
        depot.credential.account,
        "--key",
        own,
        "--passphrase-file",
    )
    unknown = service.fennox(*rescue, phrase)
    assert unknown.returncode == 5
    assert depot.key in unknown.stderr
    rescued = service.fennox(*rescue, phrase, "--accept-key", depot.key)
    assert rescued.returncode == 0, rescued.stderr
    assert service.fennox("store", "remove", "depot").returncode == 5
    assert service.fennox("store", "remove", "depot", "--yes").returncode == 0
    wrong = service.fennox("store", "add", "x", "sftp://me:pw@h/x", "--passphrase-file", phrase)
    assert wrong.returncode == 2
    assert "never holds an account" in wrong.stderr


def test_a_store_is_made_in_an_empty_place_or_beside_what_is_there_if_that_is_said(
    service: Service,
) -> None:
    place = service.folder / "papers"
    place.mkdir()
    for name in ("ferry.txt", "letters", "tide.txt", "winch.txt"):
        (place / name).write_text("not a backup\n")
    (service.folder / "disk" / "lost+found").mkdir(parents=True)
    phrase = service.file("phrase", PASSPHRASE)
    refused = service.fennox("store", "add", "papers", str(place), "--passphrase-file", phrase)
    assert refused.returncode == 1
    assert "is not empty: it holds ferry.txt, letters, tide.txt and 1 more." in refused.stderr
    assert "--beside" in refused.stderr
    assert len(list(place.iterdir())) == 4, "nothing was made, and no probe was left"
    made = service.fennox(
        "store", "add", "papers", str(place), "--passphrase-file", phrase, "--beside"
    )
    assert made.returncode == 0, made.stderr
    assert (place / "header").exists()
    assert (place / "ferry.txt").read_text() == "not a backup\n"
    fresh = service.fennox(
        "store", "add", "disk", str(service.folder / "disk"), "--passphrase-file", phrase
    )
    assert fresh.returncode == 0, fresh.stderr
