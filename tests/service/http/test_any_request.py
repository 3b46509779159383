"""Every operation with what the API's description allows and forbids: no mistake of ours, and
nobody waits for long.

`make test` asks one request of a third of the operations, drawn at random, good or bad as a coin
falls; `make soak` asks for an hour, of all, both good and bad, on a machine that does nothing else,
and then also checks how long an answer takes.
"""

from __future__ import annotations

import random
import time
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple, cast

import psycopg
import pytest
import requests
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from hypothesis.errors import Unsatisfiable
from psycopg.types.json import Jsonb
from schemathesis import APIOperation, Case, GenerationMode

from fennox.wire.backups import NewTake
from fennox.wire.restores import NewDraft
from fennox.wire.routines import NewRoutine
from fennox.wire.watch.alerts import NewAlertRoute
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import OTHER_PASSWORD, PASSPHRASE, Service, came_to

Operation = APIOperation[Any, Any, Any, Any]
_ENDLESS = {"run_events"}  # a stream
_REACHES = {  # what reaches a machine or a store: how long that takes is not Fennox's
    "probe_system",
    "look_at_machine",
    "add_system",
    "admit_login",
    "look",
    "add_store",
    "adopt_store",
    "adopt_backups",
    "test_store",
    "hand_over",
    "rekey",
    "go_on_rekeying",
    "change_custody",
    "add_passphrase",
    "withdraw_passphrase",
    "try_passphrase",
    "compare_backups",
    "compare_as_patch",
    "trace_value",
    "export_backup",
    "give_passphrase",
    "draft_restore",
    "browse_store",
    "store_space",
    "store_damage",
    "list_documents",
    "recovery_sheet",
    "test_alert",
    "change_system",
    "change_store",
    "sweep_store",
    "keep_own_state",
    "hand_in",
    "clear_backup",
    "list_marked",
    "sign_in_with_provider",
    "begin_provider_sign_in",
    "resume_system",
}
_HASHES = {
    "sign_in",
    "first_user",
    "add_user",
    "change_user",
    "change_password",
    "prove",
}  # one after the other
_NOWHERE = "127.0.0.1:1"
_PLACES = {"address": _NOWHERE, "at": _NOWHERE, "via": None, "endpoint": _NOWHERE}


class Slow(NamedTuple):
    """A call; ``stalled``: seconds of it in which something on the machine waited for a processor
    or a disk.
    """

    seconds: float
    stalled: float
    operation: str


def waited() -> float:
    """Seconds in which something on this machine has waited, by the kernel (psi.rst); 0 where it
    does not say.
    """
    told = [
        path for path in (Path("/proc/pressure/cpu"), Path("/proc/pressure/io")) if path.exists()
    ]
    lines = [path.read_text().splitlines()[0] for path in told]
    return sum(int(line.rsplit("total=", 1)[1]) for line in lines) / 1e6


@dataclass
class Estate:
    """A service with one of everything, and what each is called. ``token``: its row, as somebody
    may end it.
    """

    service: Service
    names: dict[str, str]
    known: dict[str, Any]
    token: Any
    faults: list[str] = field(default_factory=list)
    slow: list[Slow] = field(default_factory=list)  # calls over a second
    asked: int = 0

    def database(self) -> psycopg.Connection[Any]:
        return psycopg.connect(self.service.database.replace("+psycopg", ""), autocommit=True)

    def mend(self) -> None:
        """Whoever asks is signed in as an administrator who has just proved it, whatever was asked
        before.
        """
        with self.database() as database:
            database.execute(
                "insert into tokens select (jsonb_populate_record(null::tokens, %s)).* on conflict"
                " do nothing",
                [self.token],
            )
            database.execute("update tokens set proved = now() where purpose = 'client'")
            administrator = (
                "role = 'administrator', scope = null, rights = null, must_change = false"
            )
            database.execute(f"update users set {administrator} where name = 'harbour-admin'")  # noqa: S608
            database.execute("delete from sign_in_failures")
            database.execute("update service_state set approvals = '[]'")

    def known_in(self, value: Any) -> Any:
        """The body with names that there are, and addresses where nobody answers."""
        if isinstance(value, list):
            return [self.known_in(one) for one in value]
        if not isinstance(value, dict):
            return value
        return {
            name: _PLACES[name] if name in _PLACES else self.known.get(name) or self.known_in(inner)
            for name, inner in value.items()
        }

    def ask(self, operation: str, case: Case[Any], *, known: bool) -> None:
        """``known``: about what is there, where the request allows it."""
        noun = (
            case.operation.path.split("/")[3] if case.operation.path.startswith("/api/v1/") else ""
        )
        for name in case.path_parameters if known else {}:
            case.path_parameters[name] = (
                self.names.get(noun, "x") if name == "name" else self.known.get(name, "x")
            )
        if isinstance(case.body, dict | list):
            case.body = self.known_in(case.body) if known else _nowhere(case.body)
        begun, stalled = time.monotonic(), waited()
        headers = {"authorization": f"Bearer {self.service.token}"}
        try:
            answer = case.call(base_url=self.service.address, headers=headers, timeout=120)
        except (requests.exceptions.InvalidHeader, UnicodeEncodeError):
            return  # no client could send it
        took = time.monotonic() - begun
        self.asked += 1
        if answer.status_code >= 500 and answer.status_code not in (502, 503, 504):
            self.faults.append(
                f"{operation}: {answer.status_code}"
                f" {answer.text[:300]}\n{case.as_curl_command()[:1500]}"
            )
        if operation not in _REACHES | _HASHES and took > 1:
            self.slow.append(Slow(took, waited() - stalled, operation))


def _nowhere(value: Any) -> Any:
    if isinstance(value, list):
        return [_nowhere(one) for one in value]
    if not isinstance(value, dict):
        return value
    return {
        name: _PLACES[name] if name in _PLACES else _nowhere(inner) for name, inner in value.items()
    }


@pytest.fixture
def estate(service: Service, server: LinuxServer, key_pair: tuple[str, str]) -> Estate:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        run = service.ended(client.take(NewTake(system="web-9")).id)
        backup = str(came_to(run, "backup"))
        sheet = str(
            came_to(
                service.ended(client.draft(NewDraft(backup=backup, purpose="repair")).id), "sheet"
            )
        )
        client.add_alert(
            NewAlertRoute(name="hook", channel="webhook", address=f"http://{_NOWHERE}/x")
        )
        client.add_routine(
            NewRoutine(
                name="nightly",
                systems="all",
                when="every day at 02:40",
                zone="UTC",
                store="attic",
                ladder="always 3",
            )
        )
    names = {
        "systems": "web-9",
        "stores": "attic",
        "logins": "quay-root",
        "routines": "nightly",
        "alerts": "hook",
        "users": "harbour-admin",
        "key-sets": "attic",
        "kinds": "linux-server",
    }
    known: dict[str, Any] = {
        "system": "web-9",
        "store": "attic",
        "login": "quay-root",
        "onto": "web-9",
        "backup": backup,
        "run": run.id,
        "before": backup,
        "after": backup,
        "sheet": sheet,
        "kind": "linux-server",
        "routine": "nightly",
        "when": "every day at 03:10",
        "zone": "Europe/Oslo",
        "ladder": "always 2",
        "systems": "all",
        "name": "made-up",
        "password": OTHER_PASSWORD,
        "passphrase": PASSPHRASE,
        "document": "/etc/hosts",
        "key": server.host_key,
        "channel": "webhook",
        "scope": ["name=web-9"],
        "quiet": "22:00-23:00",
        "site": "holm",
        "jsonpath": "$.port",
    }
    made = Estate(service, names, known, None)
    with made.database() as database:
        [row] = database.execute(
            "select to_jsonb(tokens) from tokens where purpose = 'client' limit 1"
        ).fetchall()
        made.token = Jsonb(row[0])
    return made


def attempts(estate: Estate, operation: Operation, count: int) -> None:
    name = operation.definition.raw["operationId"]
    removes = operation.method == "delete" or name in ("remove_system", "retire_system")
    modes = list(GenerationMode)
    for mode in modes if count > 1 else [random.choice(modes)]:

        @settings(
            max_examples=count,
            deadline=None,
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(case=operation.as_strategy(generation_mode=mode), known=st.booleans())
        def attempt(case: Case[Any], known: bool) -> None:
            estate.ask(name, case, known=known and not removes)

        with suppress(Unsatisfiable):  # of a request without anything in it nothing can be wrong
            attempt()


def test_no_request_that_can_be_made_is_a_mistake_of_ours(
    estate: Estate, request: pytest.FixtureRequest
) -> None:
    count, seconds = (
        request.config.getoption("--requests"),
        request.config.getoption("--requests-for"),
    )
    described = requests.get(
        f"{estate.service.address}/api/v1/openapi.json",
        timeout=60,
        headers={"authorization": f"Bearer {estate.service.token}"},
    ).json()
    schema = schemathesis.openapi.from_dict(described)
    operations = [cast("Operation", operation.ok()) for operation in schema.get_all_operations()]  # type: ignore[union-attr]
    assert len(operations) > 130
    ends = time.monotonic() + seconds
    while True:
        random.shuffle(operations)
        for operation in operations if count > 1 else operations[: len(operations) // 6]:
            if operation.definition.raw["operationId"] not in _ENDLESS:
                estate.mend()
                attempts(estate, operation, count)
        if time.monotonic() >= ends:
            break
    assert not estate.faults, "\n\n".join(estate.faults[:20])
    assert estate.asked > 15
    assert "A mistake in Fennox" not in estate.service.log
    if request.config.getoption("--crowds"):
        slow = sorted(estate.slow)
        print(f"{estate.asked} calls, {len(slow)} over a second: {slow[-10:]}")  # noqa: T201
        assert not [call for call in slow if call.seconds - call.stalled >= 2], slow
