"""The way back: after a restore that nobody wants, the machine is what it was before."""

from __future__ import annotations

import pytest

from fennox.client.api import Client, ProblemError
from fennox.wire.restores import NewDraft
from saltmere.linux import LinuxServer
from tests.disks import differing, tree
from tests.service.conftest import enrol
from tests.service.restores.test_giving_up import GAUGE
from tests.service.restores.test_purposes import (  # noqa: F401
    as_spare,
    at,
    backup_of,
    drafted,
    fresh,
    proved,
)
from tests.service.running import Service, came_to, until


def returned(service: Service, client: Client, sheet: str) -> str:
    """Draft the way back and begin it; the sheet that was drafted for that."""
    run = service.ended(client.return_restore(sheet).id)
    assert run.state == "done", run.reason
    back = str(came_to(run, "sheet"))
    shown = client.sheet(back)
    assert shown.sheet.blockers() == []
    proved(service, client, back)
    return back


@pytest.mark.long
def test_a_spare_is_a_spare_again_after_practice(
    service: Service,
    fresh: LinuxServer,  # noqa: F811
) -> None:
    fresh.write("/etc/only-here.conf", "of the spare\n", mode=0o640)
    fresh.write("/etc/hosts", "127.0.0.1 localhost\n127.0.1.1 fresh\n")
    with service.client() as client:
        as_spare(client, fresh)
        backup = backup_of(service, client)
        before, key = tree(fresh), fresh.host_key
        sheet = drafted(
            service, client, NewDraft(backup=backup, purpose="practise", onto="spare-1")
        )
        assert "return" not in client.sheet(sheet).acts
        proved(service, client, sheet)
        assert "etc/saltmere" in differing(before, tree(fresh))
        back = returned(service, client, sheet)
        shown = client.sheet(back)
        assert client.sheet(sheet).sheet.state == "returned"
        with pytest.raises(ProblemError, match="returned already"):
            client.return_restore(sheet)
        with pytest.raises(ProblemError, match=r"nothing left to undo|returned"):
            client.undo_restore(sheet)
    assert differing(before, tree(fresh)) == set()
    assert fresh.host_key == key
    assert shown.sheet.purpose == "return"
    [away] = [step for step in shown.sheet.steps if step.do == "remove"]
    assert "/etc/saltmere/ticket" in away.names
    assert "/etc/only-here.conf" not in away.names


@pytest.mark.long
def test_a_replacement_that_nobody_accepts_is_given_its_own_login_back(
    service: Service,
    fresh: LinuxServer,  # noqa: F811
    server: LinuxServer,
) -> None:
    with service.client() as client:
        backup = backup_of(service, client)
        before, key = tree(fresh), fresh.host_key
        server.stop()
        sheet = drafted(
            service,
            client,
            NewDraft(
                backup=backup,
                purpose="replace",
                at=at(fresh),
                login="fresh-root",
                key=fresh.host_key,
            ),
        )
        proved(service, client, sheet)
        assert "waits to be accepted" in client.system("web-9").suspended_because
        back = client.sheet(returned(service, client, sheet))
        assert client.system("web-9").suspended_because == ""
        assert (back.sheet.after.place.account, back.sheet.after.place.key) == ("root", key)
        with pytest.raises(ProblemError, match="is returned"):
            client.accept_restore(sheet)
    assert differing(before, tree(fresh)) == set()


DEEP = (
    GAUGE.replace('run = ["test", "-e", "/srv/low"]', 'run = ["true"]')
    + """
[[restore.check]]
title = "The gauge measures what it should"
do = "check"
parts = ["gauge"]
run = ["grep", "-q", "depth = 7", "/srv/gauge/settings"]
"""
)


def test_it_goes_back_by_itself_where_a_person_chose_that(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(DEEP)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        backup = backup_of(service, client)
        server.write("/srv/gauge/settings", "depth = 7\n")
        server.write("/srv/gauge/new", "here since\n")
        before = tree(server)
        sheet = drafted(
            service,
            client,
            NewDraft(backup=backup, purpose="repair", key=server.host_key, parts=["gauge"]),
        )
        run = service.ended(client.start_restore(sheet, return_on_failure=True).id)
        assert run.state == "failed"
        until(lambda: client.sheet(sheet).sheet.state == "returned", "it went back by itself", 60)
        [back] = [one for one in client.restores() if one.purpose == "return"]
        assert (back.state, client.sheet(sheet).sheet.state) == ("proved", "returned")
        assert client.system("web-9").suspended_because == ""
    assert differing(before, tree(server)) == {"srv/history"}
    assert server.read("/srv/history").split() == ["rest", "measure", "rest"]


ONE_WAY = GAUGE.replace(
    'title = "Put back the settings of the gauge"',
    'title = "Put back the settings of the gauge"\nno_return = true',
).replace('run = ["test", "-e", "/srv/low"]', 'run = ["true"]')


def test_a_point_of_no_return_is_shown_and_holds(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    server.write("/srv/gauge/settings", "depth = 4\n")
    with service.client() as client:
        client.add_kind(ONE_WAY)
        enrol(service, server, key_pair[0], kind="tide-gauge")
        backup = backup_of(service, client)
        wanted = NewDraft(backup=backup, purpose="repair", key=server.host_key, parts=["gauge"])
        sheet = drafted(service, client, wanted)
        shown = service.fennox("restore", "show", sheet).stdout
        assert "none after: Put back the settings of the gauge" in shown
        service.ended(client.start_restore(sheet).id)
        assert "return" not in client.sheet(sheet).acts
        with pytest.raises(ProblemError, match="Nothing leads back after: Put back the settings"):
            client.return_restore(sheet)


def test_a_safety_copy_is_never_restored_as_a_backup(
    service: Service,
    fresh: LinuxServer,  # noqa: F811
    server: LinuxServer,
) -> None:
    with service.client() as client:
        backup = backup_of(service, client)
        wanted = NewDraft(backup=backup, purpose="repair", key=server.host_key)
        sheet = drafted(service, client, wanted)
        proved(service, client, sheet)
        safety = client.sheet(sheet).sheet.safety or ""
        with pytest.raises(ProblemError, match="This is a safety copy"):
            client.draft(wanted.model_copy(update={"backup": safety}))


def test_where_nothing_was_saved_nothing_leads_back(
    service: Service,
    fresh: LinuxServer,  # noqa: F811
) -> None:
    with service.client() as client:
        wanted = NewDraft(
            backup=backup_of(service, client),
            purpose="practise",
            at=at(fresh),
            login="fresh-root",
            key=fresh.host_key,
        )
        sheet = drafted(service, client, wanted)
        with pytest.raises(ProblemError, match="Nothing leads back here"):
            client.start_restore(sheet, return_on_failure=True)
        proved(service, client, sheet)
        with pytest.raises(ProblemError, match="was not saved"):
            client.return_restore(sheet)
