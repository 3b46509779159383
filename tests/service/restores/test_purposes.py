"""What a restore is for decides where it may write, and what becomes of the estate."""

from __future__ import annotations

from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import Any

import psycopg
import pytest

from fennox.client.api import Client, ProblemError
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem, SystemChange
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin
from fennox.wire.watch.concerns import Concern
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair
from tests.service.conftest import enrol
from tests.service.processes.test_story import PACKAGES
from tests.service.running import Service, came_to, until

Install = Callable[[str, str], LinuxServer]
Pair = tuple[str, str]

# what a run and its sheet are kept in, what tells of the service itself, and of what was read
MOVING = {"runs", "run_steps", "run_lines", "sheets", "workers", "audit", "tokens", "service_state"}
MOVING |= {"run_log", "estate_counts", "estate_count", "store_space", "trials"}


@pytest.fixture
def fresh(service: Service, server: LinuxServer, install: Install, key_pair: Pair) -> LinuxServer:
    """A machine that is ready to be written to, with a login, beside an enrolled web-9."""
    enrol(service, server, key_pair[0])
    private, public = new_key_pair("fresh")
    made = install("fresh", public)
    made.set_packages(PACKAGES)
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
    return made


def at(machine: LinuxServer) -> str:
    return f"{machine.host}:{machine.port}"


def backup_of(service: Service, client: Client) -> str:
    return str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))


def as_spare(client: Client, machine: LinuxServer) -> None:
    client.add_system(
        NewSystem(
            name="spare-1",
            kind="linux-server",
            address=at(machine),
            login="fresh-root",
            key=machine.host_key,
            settings={"ssh-restart": SSH_RESTART},
            spare=True,
        )
    )


def drafted(service: Service, client: Client, wanted: NewDraft) -> str:
    run = service.ended(client.draft(wanted).id)
    assert run.state == "done", run.reason
    return str(came_to(run, "sheet"))


def proved(service: Service, client: Client, sheet: str) -> None:
    run = service.ended(client.start_restore(sheet).id)
    assert run.state == "done", run.reason
    assert came_to(run, "proved")


def rows_of(service: Service) -> dict[str, list[Any]]:
    """Every table but those that move by themselves, each row as text."""
    with psycopg.connect(service.database.replace("+psycopg", "")) as database:
        tables = database.execute(
            "select table_name from information_schema.tables where table_schema = 'public'"
        ).fetchall()
        return {
            name: sorted(
                str(row)
                for (row,) in database.execute(f'select to_jsonb(t) from "{name}" t')  # noqa: S608
            )
            for (name,) in tables
            if name not in MOVING
        }


def files_of(store: Path) -> dict[str, str]:
    return {
        str(path.relative_to(store)): sha256(path.read_bytes()).hexdigest()
        for path in sorted(store.rglob("*"))
        if path.is_file()
    }


def test_practice_at_a_fresh_address_leaves_database_and_store_as_they_were(
    service: Service, fresh: LinuxServer
) -> None:
    with service.client() as client:
        wanted = NewDraft(
            backup=backup_of(service, client),
            purpose="practise",
            at=at(fresh),
            login="fresh-root",
            key=fresh.host_key,
        )
        rows, files = rows_of(service), files_of(service.folder / "attic")
        sheet = drafted(service, client, wanted)
        proved(service, client, sheet)
        assert client.sheet(sheet).estate_afterwards == "Nothing of web-9 changes."
    after = rows_of(service)
    assert {name for name in rows if rows[name] != after[name]} == set()
    assert files_of(service.folder / "attic") == files
    assert fresh.read("/etc/hostname") == "web-9\n", "it was really written"


def test_practice_onto_a_spare_is_the_spares_alone(service: Service, fresh: LinuxServer) -> None:
    with service.client() as client:
        as_spare(client, fresh)
        backup = backup_of(service, client)
        rows, files = rows_of(service), files_of(service.folder / "attic")
        sheet = drafted(
            service, client, NewDraft(backup=backup, purpose="practise", onto="spare-1")
        )
        proved(service, client, sheet)
        after = rows_of(service)
        safety = client.backup(client.sheet(sheet).sheet.safety or "")
        assert safety.system == "spare-1"
        with pytest.raises(ProblemError, match="nothing of web-9 changes"):
            client.accept_restore(sheet)
    changed = {name for name in rows if rows[name] != after[name]}
    assert changed <= {"backups", "copies", "pending_notes"}, "the safety copy of the spare"
    for name in changed:
        assert set(rows[name]) <= set(after[name]), f"nothing in {name} has changed"
    now = files_of(service.folder / "attic")
    assert {name: now[name] for name in files} == files
    new = {name.split("/")[1] for name in now if name not in files and name.startswith("systems/")}
    assert [name.startswith("spare-1-") for name in new] == [True]


@pytest.mark.long
def test_a_spare_serves_for_one_system_after_the_other(
    service: Service, fresh: LinuxServer, install: Install, key_pair: Pair
) -> None:
    """It shows the key, and knows the accounts, of the system that was practised on it last."""
    other = install("quay-mail", key_pair[1])
    other.set_packages(PACKAGES)
    with service.client() as client:
        as_spare(client, fresh)
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
        run = service.ended(client.take(NewTake(system="quay-mail")).id)
        first = NewDraft(backup=backup_of(service, client), purpose="practise", onto="spare-1")
        proved(service, client, drafted(service, client, first))
        with pytest.raises(ProblemError, match="as the practice of web-9 left it") as refused:
            client.draft(NewDraft(backup=first.backup, purpose="practise", onto="spare-1"))
        assert "fennox restore return" in str(refused.value.problem.remedy)
        second = NewDraft(
            backup=str(came_to(run, "backup")),
            purpose="practise",
            onto="spare-1",
            key=fresh.host_key,
            login="quay-root",
        )
        proved(service, client, drafted(service, client, second))
    assert fresh.read("/etc/hostname") == "quay-mail\n"


def test_a_spare_is_no_part_of_the_estate(service: Service, fresh: LinuxServer) -> None:
    with service.client() as client:
        before = client.status()
        as_spare(client, fresh)
        after = client.status()
        assert after.systems == before.systems
        named = [one.about for one in after.concerns]
        assert "spare-1" not in named
        assert client.system("spare-1").routines == []
        backup_of(service, client)
        with pytest.raises(ProblemError, match="practice would overwrite what they protect"):
            client.change_system("web-9", SystemChange(spare=True))


def _unaccepted(client: Client) -> list[Concern]:
    return [one for one in client.concerns() if "nobody has accepted it" in one.text]


def test_a_seed_becomes_a_system_when_an_administrator_accepts_it(
    service: Service, fresh: LinuxServer
) -> None:
    with service.client() as client:
        wanted = NewDraft(
            backup=backup_of(service, client),
            purpose="seed",
            new_name="web-10",
            at=at(fresh),
            login="fresh-root",
            key=fresh.host_key,
        )
        sheet = drafted(service, client, wanted)
        before = client.system("web-9")
        proved(service, client, sheet)
        assert [one.name for one in client.systems()] == ["web-9"]
        until(lambda: _unaccepted(client) != [], "the concern stands")
        assert f"fennox restore accept {sheet[:12]}" in _unaccepted(client)[0].remedy
        with (
            service.another("night-watch", "operator") as operator,
            pytest.raises(ProblemError, match="Only an administrator enrols a system"),
        ):
            operator.accept_restore(sheet)
        client.accept_restore(sheet)
        until(lambda: _unaccepted(client) == [], "the concern is over")
        made, after = client.system("web-10"), client.system("web-9")
        assert made.address == at(fresh)
        assert made.kind == "linux-server"
        assert after.model_dump(exclude={"last_run"}) == before.model_dump(exclude={"last_run"})
        run = service.ended(client.take(NewTake(system="web-10")).id)
        assert run.state == "done", run.reason


@pytest.mark.long
def test_a_repaired_machine_with_another_id_is_known_by_it_once_it_is_accepted(
    service: Service, server: LinuxServer, install: Install, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        backup = backup_of(service, client)
        known = client.system("web-9").machine
        server.lose()
        server.install("debian", key_pair[1])
        server.set_packages(PACKAGES)
        server.start()
        wanted = NewDraft(backup=backup, purpose="repair", key=server.host_key)
        sheet = drafted(service, client, wanted)
        proved(service, client, sheet)
        assert client.system("web-9").machine == known
        client.accept_restore(sheet)
        assert client.system("web-9").machine != known
        run = service.ended(client.take(NewTake(system="web-9")).id)
        assert run.state == "done", run.reason


def test_a_restore_begins_with_the_systems_name_and_is_proved_as_often_as_asked(
    service: Service, fresh: LinuxServer
) -> None:
    with service.client() as client:
        as_spare(client, fresh)
        backup = backup_of(service, client)
    unsaid = service.fennox("restore", "draft", backup, "--onto", "spare-1")
    assert unsaid.returncode == 5
    assert "--repair, --replace, --practise or --seed NAME" in unsaid.stderr
    words = ["restore", "draft", backup, "--practise", "--onto", "spare-1"]
    shown = service.fennox(*words).stdout
    assert "practise: onto a spare or a fresh machine" in shown
    assert "Nothing of web-9 changes." in shown
    [sheet] = service.fennox("restore", "list", "--quiet").stdout.split()
    unnamed = service.fennox("restore", "start", sheet)
    assert unnamed.returncode == 5
    assert "--yes web-9" in unnamed.stderr
    other = service.fennox("restore", "start", sheet, "--yes", "web-10")
    assert "'web-10' is not web-9" in other.stderr
    early = service.fennox("restore", "prove", sheet)
    assert "This restore is draft" in early.stderr
    done = service.fennox("restore", "start", sheet, "--yes", "web-9")
    assert done.returncode == 0, done.stderr
    again = service.fennox("restore", "prove", sheet)
    assert again.returncode == 0, again.stderr
    assert "PROVED" in again.stdout
    fresh.write("/etc/hostname", "quay\n")
    changed = service.fennox("restore", "prove", sheet)
    assert changed.returncode == 1, changed.stdout
    assert "NOT PROVED" in changed.stdout


def test_two_restores_never_write_to_one_machine_at_a_time(
    service: Service, fresh: LinuxServer, install: Install, key_pair: Pair
) -> None:
    other = install("quay-mail", key_pair[1])
    fresh.set_packages(())  # so that the first one waits for a person
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
        sheets = []
        for name in ("web-9", "quay-mail"):
            run = service.ended(client.take(NewTake(system=name)).id)
            wanted = NewDraft(
                backup=str(came_to(run, "backup")),
                purpose="practise",
                at=at(fresh),
                login="fresh-root",
                key=fresh.host_key,
            )
            sheets.append(drafted(service, client, wanted))
        waits = service.ended(client.start_restore(sheets[0]).id)
        assert waits.state == "waiting", waits.reason
        with pytest.raises(ProblemError, match="Another restore is writing to"):
            client.start_restore(sheets[1])


def test_a_spare_that_is_none_any_more_is_not_written_to(
    service: Service, fresh: LinuxServer
) -> None:
    with service.client() as client:
        as_spare(client, fresh)
        wanted = NewDraft(backup=backup_of(service, client), purpose="practise", onto="spare-1")
        sheet = drafted(service, client, wanted)
        client.change_system("spare-1", SystemChange(spare=False))
        with pytest.raises(ProblemError, match="spare-1 is no spare any more"):
            client.start_restore(sheet)
        client.remove_system("spare-1", "sold")
        with pytest.raises(ProblemError, match="spare-1 is no spare any more"):
            client.start_restore(sheet)
    assert fresh.read("/etc/hostname") != "web-9\n"


@pytest.mark.long
def test_what_another_system_has_meanwhile_is_not_accepted_over_it(
    service: Service, fresh: LinuxServer
) -> None:
    with service.client() as client:
        wanted = NewDraft(
            backup=backup_of(service, client),
            purpose="replace",
            at=at(fresh),
            login="fresh-root",
            key=fresh.host_key,
        )
        sheet = drafted(service, client, wanted)
        proved(service, client, sheet)
        client.add_system(
            NewSystem(
                name="quay-mail",
                kind="linux-server",
                address=at(fresh),
                login="quay-root",
                key=fresh.host_key,
                settings={"ssh-restart": SSH_RESTART},
            )
        )
        with pytest.raises(ProblemError, match=r"quay-mail is at .* already"):
            client.accept_restore(sheet)
        assert client.sheet(sheet).sheet.accepted is None


@pytest.mark.long
def test_of_two_replacements_only_the_first_that_is_accepted_counts(
    service: Service, fresh: LinuxServer, install: Install, key_pair: Pair
) -> None:
    other = install("fresh", new_key_pair("x")[1])
    other.write("/root/.ssh/authorized_keys", fresh.read("/root/.ssh/authorized_keys"))
    other.set_packages(PACKAGES)
    with service.client() as client:
        backup = backup_of(service, client)
        sheets = []
        for machine in (fresh, other):
            wanted = NewDraft(
                backup=backup,
                purpose="replace",
                at=at(machine),
                login="fresh-root",
                key=machine.host_key,
            )
            sheets.append(drafted(service, client, wanted))
        for sheet in sheets:
            proved(service, client, sheet)
        until(lambda: len(_unaccepted(client)) == 2, "both wait")
        client.accept_restore(sheets[1])
        with pytest.raises(ProblemError, match="when this restore was drafted, and is at"):
            client.accept_restore(sheets[0])
        assert client.system("web-9").address == at(other)
        until(lambda: _unaccepted(client) == [], "nobody is asked for the other one any more")


@pytest.mark.long
def test_a_sheet_foretells_how_long_it_takes_by_earlier_restores(
    service: Service, fresh: LinuxServer
) -> None:
    with service.client() as client:
        wanted = NewDraft(
            backup=backup_of(service, client),
            purpose="practise",
            at=at(fresh),
            login="fresh-root",
            key=fresh.host_key,
        )
        first = drafted(service, client, wanted)
        assert client.sheet(first).expected_seconds is None
        proved(service, client, first)
        steps = client.sheet(first).sheet.steps
        again = wanted.model_copy(update={"key": fresh.host_key, "login": "quay-root"})
        second = client.sheet(drafted(service, client, again))
    took = {
        step.title: (step.ended - step.started).total_seconds()
        for step in steps
        if step.started is not None and step.ended is not None
    }
    foretold = {step.title: step.usually for step in second.sheet.steps if step.usually is not None}
    assert foretold == {title: round(took[title], 1) for title in foretold}, (
        "of the only one that there was"
    )
    assert second.expected_seconds == pytest.approx(sum(foretold.values()))
    assert "usually" in service.fennox("restore", "show", second.id).stdout
    with service.client() as client:
        proved(service, client, second.id)
        done = client.sheet(second.id).sheet.steps
    took_then = sum(
        (step.ended - step.started).total_seconds()
        for step in done
        if step.do != "gate" and step.started is not None and step.ended is not None
    )
    assert second.expected_seconds is not None
    assert second.expected_seconds / 3 <= took_then <= second.expected_seconds * 3
