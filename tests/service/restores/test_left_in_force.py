"""A restore that stops between the step that begins something and the one that ends it: people are
told, can release it, and the restore is drafted anew.
"""

from __future__ import annotations

import pytest

from fennox.client.api import Client, ProblemError
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.restores.test_giving_up import GAUGE, prepared
from tests.service.running import Service, until

RESTING = GAUGE.replace(
    'run = ["sh", "-c", "echo rest >> /srv/history"]\n',
    'meanwhile = { state = "mode", says = "The gauge is at rest." }\n'
    'run = ["sh", "-c", "echo rest >> /srv/history"]\n',
).replace(
    "[[restore.undo]]",
    '[[restore.finish]]\ntitle = "Start the gauge"\ndo = "command"\nparts = ["gauge"]\n'
    'ends = "Bring the gauge to rest"\nrestarts = true\nrun = ["true"]\n\n[[restore.undo]]',
)
UNSTOPPABLE = RESTING.replace(
    'run = ["test", "-e", "/srv/low"]\n',
    "stoppable = false\n"
    'run = ["sh", "-c", "touch /srv/waits; while test ! -e /srv/low; do sleep 0.1; done"]\n',
)


def left(client: Client) -> list[str]:
    return [
        one.text for one in client.concerns() if "left" in one.text and "A restore of" in one.text
    ]


@pytest.fixture
def stopped(service: Service, server: LinuxServer, key_pair: tuple[str, str]) -> str:
    """A restore that was stopped in a step that cannot be stopped, and went through it."""
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(UNSTOPPABLE)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        sheet = prepared(client, service, server)
        shown = service.fennox("restore", "show", sheet).stdout
        assert "cannot be stopped" in shown
        run = client.start_restore(sheet)
        until(lambda: (server.folder / "srv/waits").exists(), "it is in the step")
        told = client.stop_run(run.id)
        assert (
            told.reason
            == "It stops after this step, which cannot be stopped: See that the tide is low."
        )
        assert client.run(run.id).state == "running"
        server.write("/srv/low", "")
        assert service.ended(run.id).state == "stopped"
    return sheet


def test_it_is_a_concern_until_a_person_releases_it(service: Service, stopped: str) -> None:
    with service.client() as client:
        steps = client.sheet(stopped).sheet.steps
        assert [step.state for step in steps[:5]] == ["done", "done", "done", "done", "waiting"]
        until(lambda: left(client) != [], "the concern stands")
        [told] = left(client)
        assert "The gauge is at rest." in told
        shown = service.fennox("restore", "show", stopped).stdout
        assert "special state     The gauge is at rest." in shown
        with pytest.raises(ProblemError, match="Nothing that step 4 left on the target"):
            client.release_step(stopped, 4)
        with pytest.raises(ProblemError, match="has no step 30"):
            client.release_step(stopped, 30)
        asked = service.fennox("restore", "release", stopped, "3")
        assert "--yes web-9" in asked.stderr
        released = service.fennox("restore", "release", stopped, "3", "--yes", "web-9")
        assert released.returncode == 0, released.stderr
        until(lambda: left(client) == [], "the concern is over")
        again = service.fennox("restore", "release", stopped)
        assert "left nothing in force" in again.stderr
        with pytest.raises(ProblemError, match="ended what step 3 had begun"):
            client.start_restore(stopped)
        acts = [entry.action for entry in client.audit(20)]
        assert "released a step" in acts


@pytest.mark.long
def test_what_was_released_is_begun_again_after_a_redraft(
    service: Service, server: LinuxServer, stopped: str
) -> None:
    with service.client() as client:
        client.release_step(stopped, 3)
        assert service.ended(client.redraft_restore(stopped, {}).id).state == "done"
        assert service.ended(client.start_restore(stopped).id).state == "done"
        end = client.sheet(stopped)
        assert (end.sheet.state, end.in_force) == ("proved", [])
    assert server.read("/srv/history").split() == ["rest", "rest"]
