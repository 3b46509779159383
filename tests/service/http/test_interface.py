"""The API's manners: pages by cursor, changes that do not overwrite each other, holds, previews,
who did what.
"""

from __future__ import annotations

from collections.abc import Callable

import anyio
import httpx
import pytest

from fennox.client.api import Client, OutOfReachError, ProblemError
from fennox.core.format import notes
from fennox.engine.backups import opened_store
from fennox.stores.folder import FolderStore
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import Retired, SystemChange
from fennox.wire.routines import NewRoutine, RoutineChange
from fennox.wire.stores import LoginChange
from saltmere.linux import LinuxServer
from tests.conftest import fixed_now
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, Service, came_to, until

Pair = tuple[str, str]
LADDER = "everything for 14 days, always 3"


@pytest.fixture
def ready(service: Service, server: LinuxServer, key_pair: Pair) -> Service:
    enrol(service, server, key_pair[0])
    return service


def raw(service: Service) -> httpx.Client:
    headers = {"authorization": f"Bearer {service.token}"}
    return httpx.Client(base_url=f"{service.address}/api/v1", headers=headers, trust_env=False)


def take(service: Service, client: Client, **wanted: object) -> str:
    run = service.ended(client.take(NewTake(system="web-9", **wanted)).id)
    assert run.state == "done", run.reason
    return str(came_to(run, "backup"))


def test_pages_give_everything_once_newest_first(ready: Service) -> None:
    with ready.client() as client, raw(ready) as http:
        taken = [take(ready, client, name=f"b-{number}") for number in range(3)]
        seen: list[str] = []
        after = None
        while True:
            page = http.get(
                "/backups", params={"limit": 2, **({"after": after} if after else {})}
            ).json()
            assert len(page["items"]) <= 2
            seen += [item["id"] for item in page["items"]]
            after = page["after"]
            if after is None:
                break
        assert sorted(seen) == sorted(taken)
        times = [client.backup(backup).time for backup in seen]
        assert times == sorted(times, reverse=True)
        assert [backup.id for backup in client.backups(limit=3)] == seen[:3]
        wrong = http.get("/backups", params={"after": "nonsense"})
        assert (wrong.status_code, wrong.json()["field"]) == (422, "after")
        assert http.get("/backups", params={"limit": 0}).status_code == 422


def test_a_start_with_the_same_key_is_one_start(ready: Service) -> None:
    with raw(ready) as http:
        key = {"idempotency-key": "once-only"}
        first = http.post("/backups", json={"system": "web-9"}, headers=key)
        again = http.post("/backups", json={"system": "web-9"}, headers=key)
        assert (first.status_code, again.status_code) == (202, 202)
        assert first.json()["id"] == again.json()["id"]
        ready.ended(first.json()["id"])


def test_a_change_that_was_looked_at_too_long_ago_is_refused(ready: Service) -> None:
    with raw(ready) as http:
        seen = http.get("/systems/web-9").headers["etag"]
        assert (
            http.patch(
                "/systems/web-9", json={"site": "holm"}, headers={"if-match": seen}
            ).status_code
            == 200
        )
        stale = http.patch("/systems/web-9", json={"site": "quay"}, headers={"if-match": seen})
        assert stale.status_code == 409
        assert "Somebody else changed it" in stale.json()["detail"]
        assert http.get("/systems/web-9").json()["site"] == "holm"
        unknown = http.patch("/systems/web-9", json={"colour": "ember"})
        assert (unknown.status_code, unknown.json()["field"]) == (422, "colour")


def test_a_hold_is_in_the_store_too_and_a_release_ends_it(ready: Service) -> None:
    with ready.client() as client:
        backup = take(ready, client)
        held = client.hold(backup, "before the move")
        assert (held.held, held.held_because) == (True, "before the move")
        released = client.release(backup, "the move is done")
        assert not released.held
        by = [(entry.action, entry.by) for entry in client.audit(10)]
    assert ("hold", "harbour-admin") in by
    assert ("release", "harbour-admin") in by

    async def facts() -> list[notes.Fact]:
        store = FolderStore(ready.folder / "attic")
        vault = await opened_store.open_with_passphrase(store, PASSPHRASE, fixed_now)
        record = await vault.find_record(backup)
        found = await vault.read_notes(record.reference.folder)
        return [note.fact for note in sorted(found, key=lambda note: note.time)]

    assert sorted(anyio.run(facts)) == ["hold", "release"]


def test_a_routine_is_previewed_before_it_is_saved_and_changed_afterwards(ready: Service) -> None:
    wanted = NewRoutine(
        name="nightly",
        systems="all",
        when="every day at 02:40",
        zone="Europe/Oslo",
        store="attic",
        ladder=LADDER,
    )
    with ready.client() as client, raw(ready) as http:
        backup = take(ready, client)
        preview = http.post("/routines/preview", json=wanted.model_dump()).json()
        assert (len(preview["next_runs"]), preview["stays"], preview["goes"]) == (14, 1, 0)
        assert client.routines() == [], "a preview saves nothing"
        made = client.add_routine(wanted)
        assert (made.members, made.in_all, made.mode, made.ladder) == (["web-9"], 1, "on", LADDER)
        assert client.system("web-9").next_run == made.next_run
        assert client.backup(backup).kept_by == ["everything for 14 days", "always 3"]
        off = client.change_routine("nightly", RoutineChange(mode="off"))
        assert (off.next_run, client.system("web-9").next_run) == (None, None)
        assert any("nightly is off" in concern.text for concern in client.status().concerns)
        by_hand = client.change_routine("nightly", RoutineChange(mode="by hand"))
        assert by_hand.next_run is None
        assert not any("nightly is off" in concern.text for concern in client.status().concerns)
        with pytest.raises(ProblemError, match="at `fullmoon`, letter 7"):
            client.change_routine("nightly", RoutineChange(when="every fullmoon at 01:00"))
        assert client.routine("nightly").when == "every day at 02:40", (
            "a refused change changes nothing"
        )
        with pytest.raises(ProblemError, match="already exists"):
            client.add_routine(wanted)
        client.remove_routine("nightly")
        assert client.backup(backup).kept_by == ["no routine's ladder applies"]


def test_a_login_is_changed_in_one_place_and_never_shown(ready: Service, key_pair: Pair) -> None:
    with ready.client() as client:
        before = client.logins()[0]
        client.change_login("quay-root", LoginChange(password="wrong one"))
        assert client.logins()[0].changed > before.changed
        probe = client.probe("web-9")
        assert not probe.reached
        assert "refuses the account" in (probe.problem or "")
        client.change_login("quay-root", LoginChange(private_key=key_pair[0]))
        assert client.probe("web-9").same_machine is True
        assert key_pair[0][100:140] not in client.logins()[0].model_dump_json()


def test_status_counts_only_what_is_wholly_held_and_says_what_is_wrong(ready: Service) -> None:
    with ready.client() as client:

        def said(what: str) -> None:
            until(lambda: any(what in one.text for one in client.status().concerns), what)

        said("web-9 has no backup.")
        take(ready, client, parts=["settings"])
        partial = client.status()
        assert (partial.protected, partial.systems) == (0, 1)
        said("essential part accounts")
        take(ready, client)
        until(lambda: client.status().protected == 1, "it is protected")
        (ready.folder / "attic/header").rename(ready.folder / "attic/gone")
        said("holds no store")


def test_a_retired_system_is_nobodys_news_and_comes_back_if_it_was_a_mistake(
    ready: Service,
) -> None:
    refused = ready.fennox("system", "retire", "web-9")
    assert refused.returncode == 2
    assert "--because" in refused.stderr
    retired = ready.fennox("system", "retire", "web-9", "--because", "sold with the old pier")
    assert "sold with the old pier; all its backups stay" in retired.stdout
    assert "fennox system resume web-9" in retired.stdout + retired.stderr
    with ready.client() as client:
        assert (client.status().systems, client.system("web-9").next_run) == (0, None)
        until(
            lambda: not [concern for concern in client.concerns() if concern.about == "web-9"],
            "nothing is wrong",
        )
        backups = client.backups()
        assert all("the system is retired" in backup.kept_by[-1] for backup in backups)
        with pytest.raises(ProblemError, match="retired already"):
            client.retire("web-9", Retired(because="again"))
        assert client.retire(
            "web-9", Retired(because="its successor is accepted", let_go=True)
        ).let_go
        assert not any("retired" in " ".join(backup.kept_by) for backup in client.backups())
        back = client.resume("web-9")
        assert (back.retired, back.let_go, client.status().systems) == (None, False, 1)
        with pytest.raises(ProblemError, match="neither suspended nor retired"):
            client.resume("web-9")


def test_settings_of_a_system_are_held_against_its_kind(ready: Service) -> None:
    with ready.client() as client:
        with pytest.raises(ProblemError, match="no setting colour"):
            client.change_system("web-9", SystemChange(settings={"colour": "ember"}))
        changed = client.change_system("web-9", SystemChange(labels=["web"], site="holm"))
        assert (changed.labels, changed.site) == (["web"], "holm")
        assert [system.name for system in client.systems(site="holm", label="web")] == ["web-9"]
        assert client.systems(site="quay") == []


def test_what_is_not_there_and_who_does_not_answer(ready: Service) -> None:
    asked: list[Callable[[Client], object]] = [
        lambda client: client.system("web-0"),
        lambda client: client.backup("no-such-backup"),
        lambda client: client.run("0" * 32),
        lambda client: client.sheet("0" * 32),
        lambda client: client.routine("none"),
        lambda client: client.store("none"),
    ]
    with ready.client() as client:
        for ask in asked:
            with pytest.raises(ProblemError) as missing:
                ask(client)
            assert missing.value.problem.status == 404
            assert missing.value.problem.remedy
    with raw(ready) as http:
        assert http.get("/no-such-noun").status_code == 404
        assert httpx.get(f"{ready.address}/healthz", trust_env=False).json() == {"state": "alive"}
    ready.kill()
    with ready.client() as client, pytest.raises(OutOfReachError):
        client.status()


def test_a_backup_before_a_change_is_on_hold_until_the_change_is_good(ready: Service) -> None:
    words = ["backup", "take", "web-9", "--name", "before-upgrade", "--hold", "before the upgrade"]
    done = ready.fennox(*words)
    assert done.returncode == 0, done.stderr
    assert "before the upgrade" in done.stdout
    with ready.client() as client:
        assert client.backup("before-upgrade").kept_by[0].startswith(("on hold", "no routine"))
        assert client.backup("before-upgrade").held
    notes = list((ready.folder / "attic").rglob("*.fxn"))
    assert len(notes) == 1, "the store knows as well"
    released = ready.fennox(
        "backup", "release", "before-upgrade", "--reason", "the upgrade is good"
    )
    assert released.returncode == 0
    assert "on hold" not in released.stdout
