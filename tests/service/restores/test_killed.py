"""Workers that are killed, again and again, in the middle of restores and of ways back.

``--kills`` says how often; ``make soak`` does it sixty times. The judge is the machine's own disk:
after a restore it holds what the backup's machine held, after the way back what it held itself, and
what must not be repeated was done once, unless a person said that it had not been done.
"""

from __future__ import annotations

import logging
import random
import time

import pytest

from fennox.client.api import Client
from fennox.wire.restores import NewDraft
from fennox.wire.stores import NewLogin
from saltmere.linux import LinuxServer, new_key_pair
from tests.disks import differing, tree
from tests.service.conftest import enrol
from tests.service.processes.test_story import PACKAGES
from tests.service.restores.test_purposes import Install, Pair, at, backup_of
from tests.service.restores.test_redraft import ONCE
from tests.service.running import Service, came_to, until

log = logging.getLogger(__name__)

HISTORY = "srv/history"
KIND = ONCE.replace('run = ["test", "-e", "/srv/low"]', 'run = ["true"]').replace(
    "echo rest >>", "sleep 0.3; echo rest >>"
)
RUNNING = ("queued", "running")


class Killer:
    """Does one sheet after the other, killing the worker at random moments; ``left``: kills to
    come.
    """

    def __init__(self, service: Service, client: Client, machine: LinuxServer, kills: int) -> None:
        self.service, self.client, self.machine, self.left = service, client, machine, kills
        self.chance = random.Random(kills)
        self.killed_in: list[str] = []

    def rests(self) -> int:
        file = self.machine.folder / HISTORY
        return file.read_text().split().count("rest") if file.exists() else 0

    def carry_out(self, sheet: str) -> None:
        before, allowed, deaths = self.rests(), 1, self.chance.randrange(2, 6)
        run = self.client.start_restore(sheet).id
        while True:
            worker = self.service.start_worker(slots=1)
            kills = deaths > 0 and self.left > 0
            ended = self._watched(run, self.chance.random() * 3 if kills else None)
            worker.kill()
            worker.wait()
            if not ended:
                deaths, self.left = deaths - 1, self.left - 1
                self.killed_in.append(self.client.run(run).step or "")
                continue
            shown = self.client.sheet(sheet).sheet
            if shown.state == "proved":
                break
            if (gate := shown.open_gate()) is not None:
                said = gate.choices[0]
                if gate.kind == "unknown":
                    done = self.rests() - before >= allowed
                    said = "done" if done else "not done"
                assert said in gate.choices
                self.client.answer(sheet, gate.number, said)
            else:
                assert shown.state in ("failed", "stopped", "not proved", "running"), shown.state
                run = self.client.start_restore(sheet).id
        assert self.rests() - before == 1, "what must not be repeated was done once"

    def drafted(self, run: str) -> str:
        worker = self.service.start_worker(slots=1)
        ended = self.service.ended(run)
        worker.kill()
        worker.wait()
        assert ended.state == "done", ended.reason
        return str(came_to(ended, "sheet"))

    def _watched(self, run: str, limit: float | None) -> bool:
        """Whether the run ended or waits, before so many seconds of work on it had passed."""
        until(lambda: self.client.run(run).state != "queued", "a worker has taken it")
        ends = time.monotonic() + limit if limit is not None else None
        while self.client.run(run).state in RUNNING:
            if ends is not None and time.monotonic() > ends:
                return False
        return True


@pytest.mark.long
def test_restores_and_ways_back_survive_the_deaths_of_their_workers(
    service: Service,
    server: LinuxServer,
    install: Install,
    key_pair: Pair,
    request: pytest.FixtureRequest,
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    private, public = new_key_pair("fresh")
    machine = install("fresh", public)
    machine.set_packages(PACKAGES)
    with service.client() as client:
        client.add_kind(KIND)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        client.add_login(NewLogin(name="fresh-root", account="root", private_key=private))
        backup = backup_of(service, client)
    held = {path: told for path, told in contents(server).items() if "saltmere" in path}
    assert held
    server.stop()
    service.kill()
    service.slots, service.lease = 0, 2
    service.start()
    kills = int(request.config.getoption("--kills"))
    with service.client() as client:
        killer = Killer(service, client, machine, kills)
        before = tree(machine)
        while killer.left > 0:
            wanted = NewDraft(
                backup=backup,
                purpose="replace",
                at=at(machine),
                login="fresh-root",
                key=machine.host_key,
            )
            sheet = killer.drafted(client.draft(wanted).id)
            killer.carry_out(sheet)
            after = contents(machine)
            assert {path: after.get(path) for path in held} == held
            assert after["srv/gauge/settings"] == b"depth = 4\n"
            back = killer.drafted(client.return_restore(sheet).id)
            killer.carry_out(back)
            assert differing(before, tree(machine)) - {HISTORY} == set()
    assert len(killer.killed_in) == kills
    log.info("killed in: %s", sorted(set(killer.killed_in)))


def contents(machine: LinuxServer) -> dict[str, bytes]:
    return {path: told[3] for path, told in tree(machine).items()}
