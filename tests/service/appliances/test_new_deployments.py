"""A new machine for a lost manager, made on a host of the estate: drafted, made, restored onto,
and taken away.
"""

from __future__ import annotations

from typing import Any

import pytest

from fennox.client.api import ProblemError
from fennox.core.deploying.deployment import Deployment
from fennox.wire.machines.deployments import NewDeployment
from saltmere.keelson.guests import free
from saltmere.keelson.machine import KeelsonHost
from saltmere.orlop.machine import OrlopMachine
from tests.console.browser import chromium, sign_in, violations
from tests.places import free_port, loopback
from tests.service.appliances.conftest import Protected
from tests.service.appliances.test_orlop import entered, inventory
from tests.service.running import PASSWORD, came_to

Orlop = Protected[OrlopMachine]
Keelson = Protected[KeelsonHost]


def address() -> str:
    host = loopback()
    return f"{host}:{free_port(host)}"


def draft(host: Keelson, backup: str, **values: str) -> str:
    wanted = NewDeployment(backup=backup, host=host.name, values=values)
    run = host.service.ended(host.client.draft_deployment(wanted).id)
    assert run.state == "done", run.reason
    return str(came_to(run, "deployment"))


def made(host: Keelson, deployment: str, name: str) -> Deployment:
    run = host.service.ended(host.client.start_deployment(deployment, name).id)
    assert run.state == "done", run.reason
    return host.client.deployment(deployment).deployment


def machines(host: Keelson) -> list[str]:
    told: Any = host.machine.request("GET", "/settings")
    return [one["name"] for one in told["machines"]]


def test_a_lost_manager_comes_back_on_a_machine_that_is_made_for_it(
    orlop: Orlop, keelson: Keelson
) -> None:
    backup, before = orlop.take(), inventory(orlop.machine)
    orlop.machine.lose()
    at, others = address(), machines(keelson)
    deployment = draft(keelson, backup, address=at)
    seen = keelson.client.deployment(deployment).deployment
    assert {one.name: (one.value, one.origin) for one in seen.values} == {
        "name": (orlop.name, "system"),
        "image": ("orlop-7", "kind"),
        "store": ("fast", "host"),
        "memory": ("4096", "kind"),
        "address": (at, "given"),
    }
    assert seen.findings == []
    assert [step.command for step in seen.steps] == [
        f"PUT /machines/{orlop.name}"
        f' {{"store": "fast", "image": "orlop-7", "memory": "4096", "address": "{at}"}}',
        f'PUT /machines/{orlop.name}/power {{"on": true}}',
    ]
    assert machines(keelson) == others, "a draft makes nothing"
    with pytest.raises(ProblemError, match=f"The machine is called {orlop.name} on {keelson.name}"):
        keelson.client.start_deployment(deployment, "orlop")
    done = made(keelson, deployment, orlop.name)
    assert (done.state, done.address) == ("made", at)
    new = OrlopMachine(
        keelson.machine.folder / "disks" / orlop.name, *_parts(at), "deploy", "deploy"
    )
    assert done.key == new.fingerprint, "as its console shows it"
    sheet = orlop.draft(backup, new, place={"network-address": "backup"})
    orlop.restore(sheet)
    assert inventory(entered(new, orlop.machine)) == before
    orlop.client.accept_restore(sheet)
    assert orlop.client.system(orlop.name).address != at, "it took the lost one's place"
    with pytest.raises(ProblemError, match=f"made at {at} is {orlop.name} now"):
        keelson.client.undo_deployment(deployment, orlop.name)
    assert machines(keelson) == sorted([*others, orlop.name])


def _parts(address: str) -> tuple[str, int]:
    host, _, port = address.rpartition(":")
    return host, int(port)


def test_what_was_made_is_taken_away_and_nothing_else(orlop: Orlop, keelson: Keelson) -> None:
    backup, at, others = orlop.take(), address(), machines(keelson)
    deployment = draft(keelson, backup, address=at, name="trial")
    made(keelson, deployment, "trial")
    assert machines(keelson) == sorted([*others, "trial"])
    for name in (orlop.name, keelson.name):
        with pytest.raises(ProblemError, match="A machine was made for"):
            keelson.client.remove_system(name, "it is gone")
    run = keelson.service.ended(keelson.client.undo_deployment(deployment, "trial").id)
    assert run.state == "done", run.reason
    shown = keelson.client.deployment(deployment)
    assert (shown.deployment.state, shown.deployment.address, shown.acts) == ("taken away", "", [])
    assert machines(keelson) == others
    assert free(at)
    with pytest.raises(ProblemError, match="taken away"):
        keelson.client.start_deployment(deployment, "trial")


def test_a_machine_that_is_there_already_is_never_touched(orlop: Orlop, keelson: Keelson) -> None:
    backup, others = orlop.take(), machines(keelson)
    deployment = draft(keelson, backup, address=address(), name="tickets")
    shown = keelson.client.deployment(deployment)
    [found] = shown.deployment.blockers()
    assert found.text == f"There is a machine tickets on {keelson.name} already."
    with pytest.raises(ProblemError, match="It is blocked: There is a machine tickets"):
        keelson.client.start_deployment(deployment, "tickets")
    # and where it appears between the draft and the start
    late = draft(keelson, backup, address=address(), name="latecomer")
    keelson.machine.request("PUT", "/machines/latecomer", {"store": "fast", "starts": 9})
    run = keelson.service.ended(keelson.client.start_deployment(late, "latecomer").id)
    assert run.state == "failed"
    assert "There is a machine latecomer" in run.reason
    seen = keelson.client.deployment(late)
    assert seen.deployment.state == "failed"
    assert seen.deployment.begun() == []
    ended = keelson.service.ended(keelson.client.undo_deployment(late, "latecomer").id)
    assert ended.state == "done", "there is nothing of ours to take away"
    assert machines(keelson) == sorted([*others, "latecomer"])


def test_what_a_host_refuses_to_make_is_said_and_nothing_is_left(
    orlop: Orlop, keelson: Keelson
) -> None:
    backup = orlop.take()
    taken = draft(keelson, backup, address=keelson.machine.address)
    run = keelson.service.ended(keelson.client.start_deployment(taken, orlop.name).id)
    assert run.state == "failed"
    assert "409" in run.reason
    [first, _] = keelson.client.deployment(taken).deployment.steps
    assert (first.state, keelson.client.deployment(taken).acts) == ("failed", ["continue", "undo"])
    ended = keelson.service.ended(keelson.client.undo_deployment(taken, orlop.name).id)
    assert ended.state == "done", ended.reason
    assert orlop.name not in machines(keelson)


def test_values_are_checked_before_anything_is_reached(orlop: Orlop, keelson: Keelson) -> None:
    backup, client = orlop.take(), keelson.client
    with pytest.raises(ProblemError, match="is not made with colour") as wrong:
        client.draft_deployment(
            NewDeployment(backup=backup, host=keelson.name, values={"colour": "blue"})
        )
    assert wrong.value.problem.remedy == "It has: name, image, store, memory, address."
    with pytest.raises(ProblemError, match="Nothing says how a machine is made on Orlop"):
        client.draft_deployment(NewDeployment(backup=keelson.take(), host=orlop.name))
    shown = client.deployment(draft(keelson, backup, memory="much", name="a b"))
    assert [(one.code, one.subject) for one in shown.deployment.findings] == [
        ("value-unfit", "name"),
        ("value-unfit", "memory"),
        ("value-missing", "address"),
    ]


def test_a_machine_is_drafted_made_and_taken_away_in_the_browser(
    orlop: Orlop, keelson: Keelson
) -> None:
    backup, at, others = orlop.take(), address(), machines(keelson)
    with chromium() as browser:
        page = browser.new_page(base_url=keelson.service.address)
        sign_in(page, keelson.service.address, "harbour-admin", PASSWORD)
        page.goto(f"/deployments?backup={backup}")
        page.get_by_label("Host").select_option(keelson.name)
        page.get_by_role("button", name="Draft the machine").click()
        page.get_by_text("It is not known: Where it answers").wait_for()
        assert page.get_by_role("button", name="Make it …").is_disabled()
        page.get_by_role("link", name="Draft again …").click()
        page.get_by_label("Name of the machine").fill("trial")
        page.get_by_label("Where it answers").fill(at)
        page.get_by_role("button", name="Draft the machine").click()
        page.get_by_text("Nothing has been made yet.").wait_for()
        assert violations(page) == []
        page.get_by_role("button", name="Make it …").click()
        page.get_by_label("Type the machine's name, trial").fill("trail")
        assert page.get_by_role("button", name="Make it", exact=True).is_disabled()
        page.get_by_label("Type the machine's name, trial").fill("trial")
        page.get_by_role("button", name="Make it", exact=True).click()
        page.get_by_role("link", name="Restore onto it …").click()
        fresh = page.get_by_label("Address and port of the fresh machine")
        assert fresh.input_value() == at
        for purpose in ("repair", "replace"):
            page.locator(f"input[value={purpose}]").check()
        assert fresh.input_value() == "", "it is chosen anew for another purpose"
        assert machines(keelson) == sorted([*others, "trial"])
        page.get_by_role("link", name="New machines").click()
        page.get_by_role("row", name=at).get_by_role("link").click()
        page.get_by_role("button", name="Take it away …").click()
        page.get_by_label("Type the machine's name, trial").fill("trial")
        page.get_by_role("button", name="Take it away", exact=True).click()
        page.get_by_role("link", name="Draft again …").wait_for()
    assert machines(keelson) == others
