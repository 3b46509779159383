"""The whole story through the service: enrol, take, lose, restore onto a fresh machine, prove; and
what goes wrong.
"""

from __future__ import annotations

import json
import re
import signal
import subprocess
from collections.abc import Callable
from pathlib import Path

import private_postgres
import psycopg
import pytest

from fennox.client.api import Client, ProblemError
from fennox.core.facts.run_results import TakeResult
from fennox.wire.backups import ExportWanted, NewTake
from fennox.wire.comparing import CompareWanted
from fennox.wire.restores import NewDraft
from fennox.wire.routines import NewRoutine
from fennox.wire.stores import NewLogin
from fennox.wire.watch.runs import RunShown
from saltmere.linux import LinuxServer, new_key_pair
from tests.engine.takes.test_before_and_after import AROUND
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, Service, came_to, until

Install = Callable[..., LinuxServer]
Pair = tuple[str, str]

PACKAGES = (
    "base-files",
    "bash",
    "coreutils",
    "dpkg",
    "openssh-server",
    "systemd",
    "tar",
    "tzdata",
    "nginx-light",
    "cron",
    "saltmere-ticket",
)
"""What web-9 has installed."""


def take(service: Service, **wanted: object) -> RunShown:
    with service.client() as client:
        run = client.take(NewTake(system="web-9", **wanted))
    return service.ended(run.id)


def draft(client: Client, backup: str, fresh: LinuxServer) -> RunShown:
    return client.draft(
        NewDraft(
            backup=backup,
            purpose="replace",
            at=f"{fresh.host}:{fresh.port}",
            login="fresh-root",
            key=fresh.host_key,
        )
    )


@pytest.mark.parametrize("custody", ["kept", pytest.param("apart", marks=pytest.mark.long)])
def test_lost_and_restored_onto_a_fresh_machine(
    service: Service, server: LinuxServer, install: Install, key_pair: Pair, custody: str
) -> None:
    enrol(service, server, key_pair[0], custody=custody)
    taken = take(service, name="first", note="before anything else")
    assert taken.state == "done", taken.reason
    assert [step.title for step in taken.steps][-1] == "Write the record"
    server.lose()
    private, public = new_key_pair("fresh")
    fresh = install("debian", public)
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
        run = draft(client, str(came_to(taken, "backup")), fresh)
        if custody == "apart":
            give(service, client, run.id)
        run = service.ended(run.id)
        assert run.state == "done", run.reason
        sheet = str(came_to(run, "sheet"))
        assert client.system("web-9").suspended_because == "", "nothing has begun"
        with pytest.raises(ProblemError, match="only a proved one can be accepted"):
            client.accept_restore(sheet)
        run = client.start_restore(sheet)
        if custody == "apart":
            give(service, client, run.id)
        waiting = service.ended(run.id)
        assert waiting.state == "waiting"
        assert "nginx-light" in waiting.reason
        with pytest.raises(ProblemError, match="Another run of this system is waiting"):
            client.take(NewTake(system="web-9", wait=False))
        fresh.set_packages(PACKAGES)
        gate = client.sheet(sheet).sheet.open_gate()
        assert gate is not None
        client.answer(sheet, gate.number, "done")
        if custody == "apart":
            give(service, client, run.id)
        done = service.ended(run.id)
        assert (done.state, came_to(done, "proved")) == ("done", True), done.reason
        shown = client.sheet(sheet).sheet
        assert shown.gates[0].by == "harbour-admin"
        system = client.system("web-9")
        assert system.address == f"{server.host}:{server.port}", "until a person accepts the proof"
        assert "waits to be accepted" in system.suspended_because
        client.accept_restore(sheet)
        # the new machine is the same system, at its new place, with all its backups
        system = client.system("web-9")
        assert (system.address, system.backups) == (f"{fresh.host}:{fresh.port}", 1)
        assert system.suspended_because == ""
        with pytest.raises(ProblemError, match="harbour-admin accepted it"):
            client.accept_restore(sheet)
        assert client.backup(shown.safety or "").held
        with pytest.raises(ProblemError, match="has been carried out"):
            client.start_restore(sheet)
    again = take(service)
    assert again.state == "done", again.reason


@pytest.mark.long
def test_parts_put_onto_a_spare_machine_do_not_make_it_the_system(
    service: Service, server: LinuxServer, install: Install, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    taken = take(service)
    private, public = new_key_pair("fresh")
    spare = install("spare", public)
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
        run = client.draft(
            NewDraft(
                backup=str(came_to(taken, "backup")),
                purpose="practise",
                at=f"{spare.host}:{spare.port}",
                login="fresh-root",
                key=spare.host_key,
                parts=["settings"],
            )
        )
        drafted = service.ended(run.id)
        run = client.start_restore(str(came_to(drafted, "sheet")))
        done = service.ended(run.id)
        assert (done.state, came_to(done, "proved")) == ("done", True), done.reason
        assert client.system("web-9").address == f"{server.host}:{server.port}"
    assert take(service).state == "done", "the system itself is taken as before"


@pytest.mark.long
def test_a_whole_practice_leaves_the_system_as_it_is(
    service: Service, server: LinuxServer, install: Install, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    taken = take(service)
    private, public = new_key_pair("fresh")
    spare = install("spare", public)
    spare.set_packages(PACKAGES)
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
        run = client.draft(
            NewDraft(
                backup=str(came_to(taken, "backup")),
                purpose="practise",
                at=f"{spare.host}:{spare.port}",
                login="fresh-root",
                key=spare.host_key,
            )
        )
        sheet = str(came_to(service.ended(run.id), "sheet"))
        before = client.system("web-9")
        run = client.start_restore(sheet)
        assert client.system("web-9").suspended_because == "", "its routines go on"
        done = service.ended(run.id)
        assert (done.state, came_to(done, "proved")) == ("done", True), done.reason
        with pytest.raises(ProblemError, match="nothing of web-9 changes"):
            client.accept_restore(sheet)
        after = client.system("web-9")
        assert (after.address, after.key, after.machine) == (
            before.address,
            before.key,
            before.machine,
        )
    assert take(service).state == "done", "the system itself is taken as before"
    assert server.read("/etc/hostname") == "web-9\n"


def test_what_the_old_machine_does_is_said_at_the_draft_and_at_the_start(
    service: Service, server: LinuxServer, install: Install, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    backup = str(came_to(take(service), "backup"))
    private, public = new_key_pair("fresh")
    fresh = install("fresh", public)
    fresh.set_packages(PACKAGES)
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))

        def told() -> tuple[str, str]:
            sheet = str(came_to(service.ended(draft(client, backup, fresh).id), "sheet"))
            [found] = [
                item
                for item in client.sheet(sheet).sheet.findings
                if item.code.startswith("old-one-")
            ]
            return sheet, f"{found.severity}: {found.text}"

        assert told()[1].startswith("warning: The old web-9 still answers at")
        known = server.read("/root/.ssh/authorized_keys")
        server.write("/root/.ssh/authorized_keys", "")
        assert told()[1].endswith("and refuses the login.")
        server.write("/root/.ssh/authorized_keys", known)
        server.stop()
        key = server.read("/etc/ssh/ssh_host_ed25519_key")
        server.renew_host_key()
        server.start()
        assert told()[1].endswith("but a machine with another key does.")
        server.stop()
        server.write("/etc/ssh/ssh_host_ed25519_key", key, mode=0o600)
        sheet, silent = told()
        assert silent.startswith("note: The old web-9 does not answer at")
        server.start()
        waits = service.ended(client.start_restore(sheet).id)
        assert waits.state == "waiting", waits.reason
        assert "still answers at" in waits.reason, waits.reason
        assert not fresh.read("/etc/hostname").startswith("web-9"), "nothing was written"
        gate = client.sheet(sheet).sheet.open_gate()
        assert gate is not None
        client.answer(sheet, gate.number, "accept")
        assert service.ended(waits.id).state == "done"


@pytest.mark.long
def test_an_old_machine_that_comes_back_while_a_gate_waits_is_seen_before_anything_is_written(
    service: Service, server: LinuxServer, install: Install, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    backup = str(came_to(take(service), "backup"))
    server.stop()
    private, public = new_key_pair("fresh")
    fresh = install("fresh", public)  # it lacks packages, so that a gate waits
    with service.client() as client:
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
        sheet = str(came_to(service.ended(draft(client, backup, fresh).id), "sheet"))
        run = service.ended(client.start_restore(sheet).id)
        assert run.state == "waiting", run.reason
        server.start()
        fresh.set_packages(PACKAGES)
        gate = client.sheet(sheet).sheet.open_gate()
        assert gate is not None
        client.answer(sheet, gate.number, "done")
        waits = service.ended(run.id)
        assert waits.state == "waiting", waits.reason
        assert "Before anything is written: The old web-9 still answers at" in waits.reason
        assert not fresh.read("/etc/hostname").startswith("web-9")
        gate = client.sheet(sheet).sheet.open_gate()
        assert gate is not None
        client.answer(sheet, gate.number, "accept")
        assert service.ended(run.id).state == "done"


def give(service: Service, client: Client, run: str) -> None:
    until(
        lambda: client.run(run).wants_passphrase or client.run(run).state != "running",
        "the run asks",
    )
    with pytest.raises(ProblemError, match="opens none"):
        client.give_passphrase(run, "something else entirely")
    client.give_passphrase(run, PASSPHRASE)


def test_in_custody_apart_the_service_cannot_open_what_it_took(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0], custody="apart")
    taken = take(service)
    with service.client() as client:
        backup = client.backup(str(came_to(taken, "backup")))
        assert backup.census["accounts"] == 7
        with pytest.raises(ProblemError, match="kept apart"):
            client.documents(backup.id)
        with pytest.raises(ProblemError, match="opens none"):
            list(client.export(backup.id, ExportWanted(passphrase="wrong wrong wrong")))
        whole = b"".join(client.export(backup.id, ExportWanted(passphrase=PASSPHRASE)))
    listed = subprocess.run(
        ["tar", "--zstd", "-t"], input=whole, capture_output=True, check=True
    ).stdout
    assert b"accounts/etc/shadow" in listed


def test_a_take_whose_worker_is_killed_is_taken_up_again_and_leaves_one_record(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    service.stop()
    service.slots, service.lease = 0, 3
    service.start()
    enrol(service, server, key_pair[0])
    server.configure("vessels", files=400)
    worker = service.start_worker()
    with service.client() as client:
        run = client.take(NewTake(system="web-9"))
        until(
            lambda: client.run(run.id).documents > 0 or client.run(run.id).state == "done",
            "the take has begun",
        )
        worker.send_signal(signal.SIGKILL)
        service.start_worker()
        done = service.ended(run.id)
        assert done.state == "done", done.reason
        assert len(client.backups()) == 1
    assert len(list((service.folder / "attic/systems").glob("*/*.fxr"))) == 1


@pytest.mark.long
def test_what_a_killed_worker_stopped_is_started_again_and_what_cannot_be_is_told(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    service.stop()
    service.slots, service.lease = 0, 3
    service.start()
    with service.client() as client:
        client.add_kind(
            AROUND.replace(
                "/srv/history; touch", "/srv/history; test -e /etc/go || sleep 60; touch"
            )
        )
    enrol(service, server, key_pair[0], kind="queue-server")
    worker = service.start_worker()
    with service.client() as client:
        run = client.take(NewTake(system="web-9"))
        until((server.folder / "srv/history").exists, "the queue is stopped")
        worker.send_signal(signal.SIGKILL)
        server.write("/etc/go", "")
        service.start_worker()
        done = service.ended(run.id)
        assert done.state == "done", done.reason
        history = server.read("/srv/history").split()
        assert history == ["stop", "start", "stop", "open", "close", "start"], (
            "the next worker undid it first"
        )
        assert client.system("web-9").left_open == []
        server.write("/etc/stuck", "")
        assert take(service).state == "done"
        assert client.system("web-9").left_open == ["Stop the queue"]
        until(
            lambda: any("could not undo it" in concern.text for concern in client.concerns()),
            "it is a concern",
        )
        refused = take(service)
        assert refused.state == "failed"
        assert "cannot be undone" in refused.reason
        assert client.resume("web-9").left_open == [], "a person has seen to it"


@pytest.mark.long
def test_a_take_that_is_unlike_the_last_ones_is_marked(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    assert [take(service).odd for _ in range(6)] == [""] * 6
    server.write("/etc/unusual.conf", "made up\n" * 500_000)
    assert re.match(r"It read 4\.\d MB, the last 6 read 0\.\d MB to 0\.\d MB", take(service).odd)
    assert "unusual" in service.fennox("run", "list").stdout
    assert (
        "It read 4"
        in service.fennox(
            "run", "show", service.fennox("run", "list", "--quiet").stdout.split()[0]
        ).stdout
    )


def test_a_machine_whose_clock_is_off_is_told(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    server.write(
        "/local/bin/date", '#!/bin/sh\nexec /usr/bin/date -d "-5 minutes" "$@"\n', mode=0o755
    )
    assert take(service).state == "done"
    with service.client() as client:
        told = [concern.text for concern in client.concerns() if "clock" in concern.text]
        assert told == ["The clock of web-9 was 5 minutes behind at the last take."]
    (server.folder / "local/bin/date").unlink()
    take(service)
    with service.client() as client:
        until(
            lambda: not any("clock" in concern.text for concern in client.concerns()),
            "it ends by itself",
        )


@pytest.mark.long
def test_a_worker_that_sleeps_past_its_lease_wakes_up_to_nothing(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    service.stop()
    service.slots, service.lease = 0, 3
    service.start()
    enrol(service, server, key_pair[0])
    server.configure("vessels", files=400)
    sleeper = service.start_worker()
    with service.client() as client:
        run = client.take(NewTake(system="web-9"))
        until(lambda: client.run(run.id).state != "queued", "the take has begun")
        sleeper.send_signal(signal.SIGSTOP)
        service.start_worker()
        done = service.ended(run.id)
        sleeper.send_signal(signal.SIGCONT)
        assert done.state == "done", done.reason
        assert len(client.backups()) == 1
        until(
            lambda: len(list((service.folder / "attic/systems").glob("*/*.fxr"))) == 1,
            "there is one record",
        )


@pytest.mark.long
def test_the_service_and_its_database_are_killed_in_the_middle_and_nothing_is_lost(
    service: Service, server: LinuxServer, key_pair: Pair, postgres: Path
) -> None:
    service.stop()
    service.lease = 3
    service.start()
    enrol(service, server, key_pair[0])
    server.configure("vessels", files=400)
    with service.client() as client:
        run = client.take(NewTake(system="web-9"))
        until(lambda: client.run(run.id).state != "queued", "the take has begun")
    private_postgres.stop(postgres, "immediate")
    service.kill()
    private_postgres.start(postgres, sync=False)
    service.start()
    done = service.ended(run.id)
    assert done.state == "done", done.reason
    assert len(list((service.folder / "attic/systems").glob("*/*.fxr"))) == 1


def test_the_database_goes_away_for_a_moment_and_the_run_ends_all_the_same(
    service: Service, server: LinuxServer, key_pair: Pair, postgres: Path
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        run = client.take(NewTake(system="web-9"))
        until(lambda: client.run(run.id).state != "queued", "the take has begun")
    private_postgres.stop(postgres, "immediate")
    private_postgres.start(postgres, sync=False)
    until(service.is_ready, "the service has found its database again")
    done = service.ended(run.id)
    assert done.state in ("done", "failed")
    assert done.state == "done" or done.reason
    assert take(service).state == "done"


def test_stopping_a_run_twice_and_two_takes_at_once_are_refused_in_words(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    service.stop()
    service.slots = 0
    service.start()
    enrol(service, server, key_pair[0])
    with service.client() as client:
        run = client.take(NewTake(system="web-9"))
        with pytest.raises(ProblemError, match="Another run of this system is queued"):
            client.take(NewTake(system="web-9", wait=False))
        behind = client.take(NewTake(system="web-9"))
        assert behind.waits_for.startswith("Waiting for a take of web-9, queued "), behind.waits_for
        assert client.stop_run(behind.id).state == "stopped"
        assert client.stop_run(run.id).state == "stopped"
        with pytest.raises(ProblemError, match="already ended"):
            client.stop_run(run.id)


def test_a_changed_machine_stops_the_take_and_a_person_confirms_it(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    assert take(service).state == "done"
    server.write("/etc/machine-id", "0" * 32 + "\n")
    failed = take(service)
    assert (failed.state, failed.problem, came_to(failed, "offered")) == (
        "failed",
        "person-needed",
        "0" * 32,
    )
    with service.client() as client:
        assert client.probe("web-9").same_machine is False
        with pytest.raises(ProblemError, match="The machine that answers is"):
            client.confirm("web-9", "f" * 32)
        client.confirm("web-9", "0" * 32)
        assert any("waits" in c.text or "failed" in c.text for c in client.status().concerns)
    assert take(service).state == "done"
    with service.client() as client:
        assert client.system("web-9").backups == 2


def test_following_a_run_tells_steps_and_end(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        run = client.take(NewTake(system="web-9"))
        events = [event for event in client.follow(run.id) if isinstance(event, RunShown)]
    assert events[-1].state == "done"
    assert "Read and store the documents" in [step.title for step in events[-1].steps]


def test_secrets_are_in_no_answer_log_or_table(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    assert take(service).state == "done"
    private_line = key_pair[0].splitlines()[2]
    dump = subprocess.run(
        [
            "pg_dump",
            service.database.replace("+psycopg", "").replace("postgresql", "postgresql", 1),
        ],
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    with service.client() as client:
        answers = "".join(
            model.model_dump_json()
            for model in (*client.logins(), *client.stores(), *client.systems(), *client.audit(100))
        )
    for place in (dump, answers, service.log):
        assert private_line not in place
        assert PASSPHRASE not in place
        assert service.token not in place


def test_what_changed_is_told_in_words_and_secrets_are_not(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        before = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
    alone = service.fennox("backup", "compare", "--system", "web-9")
    assert alone.returncode == 2
    assert "two are needed" in alone.stderr
    server.write("/etc/hosts", "127.0.0.1 localhost\n10.9.0.7 northness\n")
    server.append("/etc/shadow", "mara:$y$made-up:20500::::::\n")
    server.append("/etc/passwd", "mara:x:1042:1042::/home/mara:/bin/sh\n")
    with service.client() as client:
        after = str(came_to(service.ended(client.take(NewTake(system="web-9")).id), "backup"))
    told = service.fennox("backup", "compare", before[:12], after[:12])
    assert told.returncode == 0, told.stderr
    assert "~ /etc/hosts" in told.stdout
    assert "10.9.0.7 northness" in told.stdout
    assert "Its content is secret, and has changed." in told.stdout
    assert "made-up" not in told.stdout
    assert "accounts: +mara" in told.stdout
    by_system = service.fennox("backup", "compare", "--system", "web-9", "--quiet")
    assert by_system.stdout.split() == ["/etc/hosts", "/etc/passwd", "/etc/shadow"]
    with service.client() as client:
        middle = client.backup(after).time
    since = service.fennox("backup", "compare", "--system", "web-9", "--since", middle.isoformat())
    assert "No document differs" in since.stdout, since.stderr  # the newest itself stood then
    early = service.fennox("backup", "compare", "--system", "web-9", "--since", "2001-01-01")
    assert early.returncode == 2
    assert "as old as that" in early.stderr
    same = service.fennox("backup", "compare", after, after)
    assert "No document differs" in same.stdout
    shown = service.fennox("backup", "show", after).stdout
    assert "It can rebuild the system on a fresh machine" in shown
    assert "data below /srv, /home and /var" in shown
    traced = service.fennox("trace", "web-9", "/etc/hosts").stdout
    assert "2 states in 2 backups" in traced
    assert f"since {middle:%Y-%m-%d}" in traced
    assert "~ line 2: 127.0.1.1 web-9 → 10.9.0.7 northness" in traced
    people = service.fennox("trace", "web-9", "--list", "accounts").stdout
    assert [line for line in people.splitlines() if line.startswith("  +")] == ["  + mara"]
    lines = service.fennox("trace", "web-9", "/etc/hosts", "--line", "northness").stdout
    assert "  10.9.0.7 northness" in lines
    assert "  nothing fits" in lines
    secret = service.fennox("trace", "web-9", "/etc/shadow", "--line", "mara").stdout
    assert "The document is secret" in secret
    assert "made-up" not in secret
    assert "2 states" in secret
    for wrong, code, words in (
        (["web-9"], 2, "Give a document"),
        (["web-9", "/no/such"], 3, "No backup of web-9 holds /no/such"),
        (["web-9", "/etc/hosts", "--jsonpath", "$["], 2, "does not compile"),
        (["web-8", "/etc/hosts"], 3, "web-8"),
    ):
        refused = service.fennox("trace", *wrong)
        assert refused.returncode == code, refused.stderr
        assert words in refused.stderr, refused.stderr
    nothing = service.fennox("backup", "compare", "--system", "web-9", "--live")
    assert "No document differs" in nothing.stdout, nothing.stderr
    server.write("/etc/hosts", "127.0.0.1 localhost\n10.9.0.8 northness\n")
    live = service.fennox("backup", "compare", after, "--live")
    assert "~ line 2: 10.9.0.7 northness → 10.9.0.8 northness" in live.stdout
    assert "as it is now" in live.stdout
    patch = json.loads(service.fennox("backup", "compare", after, "--live", "--json-patch").stdout)
    assert patch == [
        {"op": "replace", "path": "/settings/~1etc~1hosts/content/1", "value": "10.9.0.8 northness"}
    ]
    server.write("/etc/machine-id", "ab" * 16 + "\n")
    other = service.fennox("backup", "compare", after, "--live")
    assert other.returncode == 5
    assert "reinstalled, replaced, or this is the wrong machine" in other.stderr
    for wrong in (
        ["backup", "compare", before],
        ["backup", "compare", before, after, "--live"],
        ["backup", "compare", "--since", "2026-01-01"],
        ["backup", "compare", "--system", "web-9", "--since", "tuesday"],
    ):
        assert service.fennox(*wrong).returncode == 2, wrong


KIND = """
name = "tide-gauge"
includes = ["linux-server"]
version = {version}
title = "Tide gauge"

[[part]]
name = "gauge"
title = "Settings of the gauge"
[[part.source]]
files = ["/etc/tide/*"]
"""


def test_an_administrator_adds_a_kind_that_builds_on_another(service: Service) -> None:
    added = service.fennox("kind", "add", service.file("gauge.toml", KIND.format(version=1)))
    assert added.returncode == 0, added.stderr
    again = service.fennox("kind", "add", service.file("gauge.toml", KIND.format(version=1)))
    assert "Make it version = 2" in again.stderr
    assert (
        service.fennox("kind", "add", service.file("gauge.toml", KIND.format(version=2))).returncode
        == 0
    )
    wrong = service.fennox("kind", "add", service.file("wrong.toml", KIND.format(version="'x'")))
    assert wrong.returncode == 2, wrong.stderr
    assert "line 4" in wrong.stderr, wrong.stderr
    with service.client() as client:
        [kind] = [kind for kind in client.kinds() if kind.name == "tide-gauge"]
        assert (kind.version, kind.reach, [part.name for part in kind.parts][-1]) == (
            2,
            "ssh",
            "gauge",
        )


@pytest.mark.long
def test_a_worker_that_is_drained_finishes_and_ends(service: Service) -> None:
    process = service.start_worker()
    with service.client() as client:
        until(
            lambda: len([w for w in client.workers() if w.state == "alive"]) == 2, "both are alive"
        )
        embedded, own = sorted(client.workers(), key=lambda worker: worker.started)
        assert abs(own.skew) < 30
        assert service.fennox("worker", "drain", own.id[:12]).returncode == 0
        until(lambda: process.poll() is not None, "it has ended")
        assert {worker.id: worker.state for worker in client.workers()} == {
            embedded.id: "alive",
            own.id: "stopped",
        }
        assert "worker-gone" not in str(client.concerns())
    assert service.fennox("worker", "drain", "nobody").returncode == 3
    assert "stopped" in service.fennox("worker", "list").stdout


def test_what_a_routine_began_is_tried_again_and_what_a_person_began_is_told_at_once(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    server.stop()
    with service.client() as client:
        failed = service.ended(client.take(NewTake(system="web-9")).id)
        assert (failed.state, failed.problem) == ("failed", "unreachable")
        client.add_routine(
            NewRoutine(
                name="nightly",
                systems="all",
                when="every day at 02:40",
                store="attic",
                ladder="always 3",
                run_now=True,
            )
        )
        (run,) = [run for run in client.runs() if run.routine == "nightly"]
        until(lambda: client.run(run.id).reason != "", "it was tried once")
        again = client.run(run.id)
        assert (again.state, again.attempt) == ("queued", 1)
        assert "tried again after 60 seconds, then 2 more times" in again.remedy
        assert service.fennox("run", "stop", run.id[:12]).returncode == 0


@pytest.mark.long
def test_unchanged_is_only_what_holds_the_same_documents_modes_and_links(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    server.write("/etc/ferry/page", "one\n")
    server.write("/etc/ferry/other", "one\n")
    enrol(service, server, key_pair[0])
    page = server.folder / "etc/ferry/page"

    def taken(**wanted: object) -> tuple[object, list[str]]:
        result = take(service, **wanted).told(TakeResult)
        with service.client() as client:
            assert client.backup(result.backup).unchanged == result.unchanged
        counts = {"changed": result.changed, "new": result.new, "gone": result.gone}
        return result.unchanged, [word for word, count in counts.items() if count]

    assert taken() == (False, [])
    assert taken() == (True, [])
    page.unlink()
    assert taken() == (False, ["gone"])
    assert "1 document gone" in service.fennox("run", "list").stdout
    (server.folder / "etc/ferry/other").chmod(0o600)
    told = service.fennox("backup", "take", "web-9")
    assert "Since the last backup: 1 document changed." in told.stderr, told.stderr
    page.symlink_to("other")
    assert taken() == (False, ["new"])
    page.unlink()
    page.symlink_to("another")
    assert taken() == (False, ["changed"])
    assert taken(parts=["settings"]) == (False, []), "of other parts than the backup before"
    assert taken(parts=["settings"]) == (True, [])


@pytest.mark.long
def test_a_night_on_which_nothing_has_changed_is_told_and_the_next_change_is_taken(
    service: Service, server: LinuxServer, key_pair: Pair
) -> None:
    enrol(service, server, key_pair[0])
    client = service.client()

    def night() -> tuple[RunShown, list[str]]:
        client.add_routine(
            NewRoutine(
                name="nightly",
                systems="all",
                when="every day at 02:40",
                store="attic",
                ladder="always 90",
                run_now=True,
            )
        )
        run = service.ended(next(run.id for run in client.runs() if run.routine == "nightly"))
        assert run.state == "done", run.reason
        client.remove_routine("nightly")
        return client.run(run.id), [line.text for line in client.run_log(run.id)]

    def unchanged() -> bool:
        return any("answers as it did" in line for line in night()[1])

    with client:
        until(unchanged, "nothing on it has been written just now")
        run, lines = night()
        assert any("answers as it did" in line for line in lines)
        newest, before = client.backups(system="web-9")[:2]
        assert (newest.documents, newest.bytes, newest.unchanged) == (
            before.documents,
            before.bytes,
            True,
        )
        assert client.backup(newest.id).census == client.backup(before.id).census
        assert (run.documents, run.step) == (newest.documents, "Write the record")
        assert all(step.ended is not None for step in run.steps)
        found = client.compare(CompareWanted(before=before.id, after=newest.id)).comparison
        assert (found.documents, found.lists, found.same) == ([], [], newest.documents)
        assert service.ended(client.verify(newest.id).id).state == "done"
        with psycopg.connect(service.database.replace("+psycopg", ""), autocommit=True) as database:
            database.execute("update backups set doubtful = true where id = %s", [newest.id])
            assert not unchanged(), "what is in doubt is read anew"
            assert unchanged()
            database.execute("update copies set damaged = 'a pack is cut short'")
            assert not unchanged(), "and so is what this store does not hold whole"
            assert unchanged()
        server.write("/etc/ferry/new-page", "new\n")
        _, lines = night()
        assert not any("answers as it did" in line for line in lines)
        after = client.backups(system="web-9")[0]
        assert (after.documents, after.unchanged) == (newest.documents + 2, False), (
            "the page, and its folder"
        )
