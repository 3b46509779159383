"""Whatever people do to a restore and to what it rests on, in any order, against the real service:
only what its sheet showed is run, the estate changes when a person accepts and not before, and
proved is only what is on the target's disk.
"""

from __future__ import annotations

import logging
import time
from collections import Counter
from dataclasses import dataclass, field
from itertools import count
from pathlib import Path
from typing import ClassVar, assert_never, get_args

import psycopg
import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    precondition,
    rule,
    run_state_machine_as_test,
)

from fennox.client.api import Client, ProblemError
from fennox.core.places.sheet_model import DraftPurpose
from fennox.core.restoring.sheet import Sheet, SheetAct
from fennox.wire.backups import NewTake
from fennox.wire.machines.enrolling import NewSystem, SystemChange
from fennox.wire.restores import NewDraft, SheetShown
from fennox.wire.stores import LoginChange, NewLogin, NewStore
from fennox.wire.watch.runs import RunShown
from saltmere.linux import LinuxServer, new_key_pair
from tests.programs import Program
from tests.service.restores.test_purposes import Install, at
from tests.service.running import PASSPHRASE, Service, came_to, until

log = logging.getLogger(__name__)

KIND = """
name = "tide-printer"
version = {version}
title = "Printer of tide tables"
reach = "ssh"
port = 22

[settings.mark]
title = "What is told to the printer"
type = "text"
default = "new tables"

[identity]
id = {{ in = "who", regex = '^(\\w+)' }}
product = {{ in = "who", regex = '(printer)' }}
version = {{ in = "who", regex = 'printer (\\d+)' }}
[identity.run]
who = ["sh", "-c", "cat /etc/machine-id; echo printer 1"]

[[part]]
name = "tables"
title = "Tide tables"
essential = true
overwrites = "tables of the same names"
[[part.source]]
files = ["/srv/tables/*"]

[requires]
product = "any"
version = "any"
platform = "any"

[[restore.prepare]]
title = "Bring the printer to rest"
do = "command"
repeat = false
meanwhile = {{ state = "mode", says = "The printer is at rest." }}
run = ["sh", "-c", 'echo "rest {version} $1" >> /srv/history; sleep 0.3', "sh", "{{mark}}"]

[[restore.prepare]]
title = "Have somebody look"
do = "gate"
ask = "Is there paper in it?"

[[restore.write]]
title = "Put back the tables"
do = "write"
parts = ["tables"]
undone = false

[[restore.check]]
title = "There are tables"
do = "check"
run = ["ls", "/srv/tables"]
expect = "west|east|north"

[[restore.release]]
title = "Have the printer print again"
do = "command"
ends = "Bring the printer to rest"
run = ["sh", "-c", 'echo "print {version} $1" >> /srv/history', "sh", "{{mark}}"]

[[restore.undo]]
title = "Have the printer print, given up"
undoes = "Bring the printer to rest"
do = "command"
run = ["sh", "-c", 'echo "print {version} $1" >> /srv/history', "sh", "{{mark}}"]
"""
RUNNING = ("queued", "running")
MARKS = st.sampled_from(["new tables", "tables of the west pier", "one more"])
NAMES = st.sampled_from(["east", "west", "north"])
TIMES = st.sampled_from(["04:10\n", "10:20\n", "16:35\n"])
TABLES = st.dictionaries(NAMES, TIMES, min_size=1)
PURPOSES = st.sampled_from(get_args(DraftPurpose))
DEATHS = st.none() | st.sampled_from([number / 5 for number in range(12)])  # seconds
FORWARD: tuple[SheetAct, ...] = ("begin", "continue", "answer", "accept", "return")
SETTLED = ("proved", "given up", "returned")
ESTATE = {
    "systems": "name, kind, address, login_id, key, settings, labels, spare, retired_because",
    "logins": "*",
    "stores": "id, name, address",
    "routines": "*",
    "kinds": "name, version, text",
}
_numbers = count(1)


@dataclass
class Printer:
    """A real machine with tables and a history, both read from its disk."""

    server: LinuxServer

    def tables(self) -> dict[str, str]:
        return {path.name: path.read_text() for path in self._folder().iterdir()}

    def hold(self, tables: dict[str, str]) -> None:
        for path in self._folder().iterdir():
            path.unlink()
        for name, text in tables.items():
            (self._folder() / name).write_text(text)

    def history(self) -> list[str]:
        file = self.server.folder / "srv/history"
        return file.read_text().splitlines() if file.exists() else []

    def _folder(self) -> Path:
        folder = self.server.folder / "srv/tables"
        folder.mkdir(exist_ok=True)
        return folder


@dataclass
class Estate:
    """What the examples share; ``worker``: the one that may die."""

    service: Service
    client: Client
    install: Install
    keys: list[tuple[str, str]]
    worker: Program | None = None
    done: Counter[str] = field(default_factory=Counter)

    def work(self) -> None:
        if self.worker is None:
            self.worker = self.service.start_worker(slots=2)

    def die(self) -> None:
        assert self.worker is not None
        self.worker.kill()
        self.worker.wait()
        self.worker = None

    def rows(self) -> dict[str, list[str]]:
        """What a restore may not touch unless a person accepts it, read from the database."""
        with psycopg.connect(self.service.database.replace("+psycopg", "")) as database:
            return {
                table: sorted(
                    str(row)
                    for row in database.execute(f"select {columns} from {table}")  # noqa: S608
                )
                for table, columns in ESTATE.items()
            }


class AnyOrder(RuleBasedStateMachine):
    """A system with its machine, a fresh machine and a spare; one restore after the other."""

    estate: ClassVar[Estate]

    def __init__(self) -> None:
        super().__init__()
        self.client = self.estate.client
        self.sheet: str | None = None
        self.way: str | None = None
        self.shown: set[str] = set()
        self.rests_allowed = 0
        self.before: dict[str, str] | None = None
        self.over = False

    def teardown(self) -> None:
        for printer in getattr(self, "printers", {}).values():
            printer.server.stop()

    @initialize(tables=TABLES, later=TABLES, others=TABLES, purpose=PURPOSES)
    def an_estate(
        self,
        tables: dict[str, str],
        later: dict[str, str],
        others: dict[str, str],
        purpose: DraftPurpose,
    ) -> None:
        number = next(_numbers)
        self.system, self.spare = f"pier-{number}", f"spare-{number}"
        self.kind, self.version, self.key = f"tide-printer-{number}", 1, 0
        self.login = f"printer-{number}"
        self.printers = {name: self._installed(name) for name in ("home", "fresh", "spare")}
        self.client.add_kind(self._kind_file())
        key = self.estate.keys[0][0]
        self.client.add_login(NewLogin(name=self.login, account="root", private_key=key))
        self._enrol(self.system, "home", spare=False)
        self.printers["home"].hold(tables)
        self.backed_up = tables
        self.estate.work()
        taken = self.estate.service.ended(self.client.take(NewTake(system=self.system)).id)
        self.backup = str(came_to(taken, "backup"))
        self._enrol(self.spare, "spare", spare=True)
        for name, held in (("home", later), ("fresh", others), ("spare", others)):
            self.printers[name].hold(held)
        self.rows = self.estate.rows()
        self._draft(purpose)

    def _installed(self, name: str) -> Printer:
        server = self.estate.install(name, "".join(public for _, public in self.estate.keys))
        return Printer(server)

    def _kind_file(self) -> str:
        text = KIND.format(version=self.version)
        return text.replace('"tide-printer"', f'"{self.kind}"')

    def _enrol(self, name: str, where: str, *, spare: bool) -> None:
        server = self.printers[where].server
        wanted = NewSystem(
            name=name,
            kind=self.kind,
            address=at(server),
            login=self.login,
            key=server.host_key,
            spare=spare,
        )
        self.client.add_system(wanted)

    # what others change meanwhile

    @rule(what=st.sampled_from(["setting", "kind", "login"]), mark=MARKS)
    def somebody_changes_what_it_rests_on(self, what: str, mark: str) -> None:
        if what == "setting":
            for name in (self.system, self.spare):
                self.client.change_system(name, SystemChange(settings={"mark": mark}))
        elif what == "kind":
            self.version += 1
            self.client.add_kind(self._kind_file())
        else:
            self.key = 1 - self.key
            private = self.estate.keys[self.key][0]
            self.client.change_login(self.login, LoginChange(private_key=private))
        self.rows = self.estate.rows()

    @precondition(lambda self: self.sheet and not self.way and self.look().state == "draft")
    @rule(tables=TABLES)
    def somebody_changes_the_target(self, tables: dict[str, str]) -> None:
        self.target.hold(tables)

    # what people do with a restore

    def look(self) -> Sheet:
        """The sheet at work, as a person reads it; its commands count as shown from then on."""
        one = self.way or self.sheet
        assert one is not None
        sheet = self.client.sheet(one).sheet
        for step in [*sheet.steps, *sheet.undo]:
            self.shown.update(step.commands)
        return sheet

    @precondition(lambda self: self.sheet is None and not self.over)
    @rule(purpose=PURPOSES)
    def draft(self, purpose: DraftPurpose) -> None:
        self._draft(purpose)

    def _draft(self, purpose: DraftPurpose) -> None:
        where = {"repair": "home", "practise": "spare"}.get(purpose, "fresh")
        self.target, self.purpose = self.printers[where], purpose
        server, elsewhere = self.target.server, purpose in ("replace", "seed")
        wanted = NewDraft(
            backup=self.backup,
            purpose=purpose,
            onto=self.spare if purpose == "practise" else None,
            at=at(server) if elsewhere else None,
            key=server.host_key if elsewhere else None,
            login=self.login if elsewhere else None,
            new_name=f"new-{self.system}" if purpose == "seed" else None,
        )
        held = self.target.history()
        run = self.estate.service.ended(self.client.draft(wanted).id)
        assert run.state == "done", run.reason
        self.sheet, self.before = str(came_to(run, "sheet")), None
        self.shown.clear()
        self.known = {name: len(one.history()) for name, one in self.printers.items()}
        self.rests, self.rests_allowed = _rests(self.target), 1
        assert self.target.history() == held, "a draft changes nothing"

    @precondition(lambda self: self.sheet is not None and self.way is None)
    @rule()
    def redraft(self) -> None:
        assert self.sheet is not None
        held = self.target.history(), self.target.tables()
        try:
            run = self.client.redraft_restore(self.sheet, {})
        except ProblemError:
            assert self.look().state in ("proved", "given up", "returned", "waiting")
        else:
            self._ended(run)
        assert (self.target.history(), self.target.tables()) == held, "a draft changes nothing"

    @precondition(lambda self: self.sheet is not None)
    @rule(dies=DEATHS, data=st.data())
    def do_what_is_offered(self, dies: float | None, data: st.DataObject) -> None:
        one = self.way or self.sheet
        assert one is not None
        if acts := self.client.sheet(one).acts:
            self._act(data.draw(st.sampled_from(acts)), dies, data)

    @precondition(lambda self: self.sheet is not None)
    @rule(dies=DEATHS, data=st.data())
    def go_on(self, dies: float | None, data: st.DataObject) -> None:
        one = self.way or self.sheet
        assert one is not None
        acts = self.client.sheet(one).acts
        if forward := [act for act in FORWARD if act in acts]:
            self._act(forward[0], dies, data)

    @precondition(lambda self: self.sheet is not None)
    @rule(act=st.sampled_from(get_args(SheetAct)), dies=DEATHS, data=st.data())
    def do_anything(self, act: SheetAct, dies: float | None, data: st.DataObject) -> None:
        self._act(act, dies, data)

    def _act(self, act: SheetAct, dies: float | None, data: st.DataObject) -> None:
        one, sheet = self.way or self.sheet, self.look()
        assert one is not None
        held, rows = self.target.history(), self.target.tables()
        allowed = _is_allowed(act, self.client.sheet(one))
        try:
            run = self._asked(one, sheet, act, data)
        except ProblemError:
            assert self.look() == sheet, "what is refused changes nothing"
            assert (self.target.history(), self.target.tables()) == (held, rows)
            return
        assert allowed, f"{act} was not refused for a sheet that is {sheet.state}"
        self.estate.done[act] += 1
        if run is not None:
            self._followed(run, act, dies)

    def _asked(self, one: str, sheet: Sheet, act: SheetAct, data: st.DataObject) -> RunShown | None:
        match act:
            case "begin" | "continue":
                if self.way is None and sheet.safety is None and not sheet.begun():
                    self.before = self.target.tables()
                return self.client.start_restore(one)
            case "prove":
                return self.client.prove_restore(one)
            case "undo":
                return self.client.undo_restore(one)
            case "return":
                return self.client.return_restore(one)
            case "answer":
                return self._answered(one, sheet, data)
            case "accept":
                self.client.accept_restore(one)
                self._accepted()
                return None
            case "release":
                self.client.release_step(one, (sheet.in_force() or sheet.steps)[0].number)
                return None
            case _:
                assert_never(act)

    def _answered(self, one: str, sheet: Sheet, data: st.DataObject) -> RunShown:
        gate = sheet.open_gate()
        if gate is None:
            return self.client.answer(one, 1, "done")
        said = data.draw(st.sampled_from(gate.choices))
        run = self.client.answer(one, gate.number, said)
        self.rests_allowed += said in ("not done", "write again")
        return run

    def _followed(self, run: RunShown, act: SheetAct, dies: float | None) -> None:
        if dies is not None:
            self.estate.done["died"] += 1
            time.sleep(dies)  # no wait for anything: the worker dies at a moment drawn
            self.estate.die()
            self.estate.work()
        ended = self._ended(run)
        if act == "return" and ended.state == "done":
            self.way = str(came_to(ended, "sheet"))
            self.rests_allowed += 1
        elif act == "return":
            assert self.way is None
        self._judge(self.look())

    def _ended(self, run: RunShown) -> RunShown:
        until(lambda: self.client.run(run.id).state not in RUNNING, "the run ends or waits")
        return self.client.run(run.id)

    def _judge(self, sheet: Sheet) -> None:
        if sheet.state != "proved":
            return
        assert sheet.proof is not None
        assert sheet.proof.proved
        if sheet.purpose == "return":
            assert self.target.tables() == self.before, "the way back leads back"
        else:
            there = self.target.tables()
            assert {name: there.get(name) for name in self.backed_up} == self.backed_up

    def _accepted(self) -> None:
        server, before = self.target.server, self.rows
        self.rows, self.over = self.estate.rows(), True
        assert {name for name in before if before[name] != self.rows[name]} == {"systems"}
        if self.purpose == "replace":
            shown = self.client.system(self.system)
        else:
            assert self.purpose == "seed", "nothing else awaits acceptance here"
            shown = self.client.system(f"new-{self.system}")
        assert (shown.address, shown.key) == (at(server), server.host_key)

    @precondition(lambda self: self.sheet is not None and self.look().state in SETTLED)
    @rule()
    def begin_anew(self) -> None:
        self.sheet = self.way = None

    # what holds at any time

    @invariant()
    def only_what_was_shown_is_run(self) -> None:
        for name, printer in getattr(self, "printers", {}).items():
            for line in printer.history()[getattr(self, "known", {}).get(name, 0) :]:
                assert printer is self.target, f"{name} is no target, and was told: {line}"
                said, version, mark = line.split(" ", 2)
                assert any(
                    f'echo "{said} {version} $1"' in one and mark in one for one in self.shown
                ), f"{line} was done, and no sheet showed it"

    @invariant()
    def what_must_not_be_repeated_is_not(self) -> None:
        if self.sheet is not None:
            assert _rests(self.target) - self.rests <= self.rests_allowed

    @invariant()
    def the_estate_changes_when_a_person_accepts(self) -> None:
        if hasattr(self, "rows"):
            assert self.estate.rows() == self.rows


def _is_allowed(act: SheetAct, shown: SheetShown) -> bool:
    """To start is to begin, to continue, or to prove again; of a run that waits it changes
    nothing.
    """
    if act in ("begin", "continue"):
        starts = {"begin", "continue"} & set(shown.acts)
        return bool(starts) or shown.sheet.state in ("not proved", "waiting")
    return act in shown.acts


def _rests(printer: Printer) -> int:
    return sum(line.startswith("rest ") for line in printer.history())


@pytest.mark.timeout(1800)
@pytest.mark.long
def test_restores_in_any_order(
    service: Service, install: Install, key_pair: tuple[str, str]
) -> None:
    attic = service.folder / "attic"
    attic.mkdir()
    service.kill()
    service.slots, service.lease = 0, 2
    service.start()
    with service.client() as client:
        client.add_store(NewStore(name="attic", address=str(attic), passphrase=PASSPHRASE))
        keys = [key_pair, new_key_pair("second")]

        class Here(AnyOrder):
            estate = Estate(service, client, install, keys)

        run_state_machine_as_test(
            Here,
            settings=settings(
                phases=(Phase.explicit, Phase.reuse, Phase.generate),  # shrinking would take hours
                max_examples=max(1, settings().max_examples // 100),
                stateful_step_count=20,
                deadline=None,
                suppress_health_check=list(HealthCheck),
            ),
        )
        log.info("done: %s", dict(Here.estate.done))
