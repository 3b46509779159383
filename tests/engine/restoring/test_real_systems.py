"""Real programs from Debian's packages, each on a server of its own that is lost and comes back
elsewhere.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable

import pytest

from fennox.core.compare.model import Comparison
from fennox.core.errors import FarSideFailed
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring.sheet import Sheet
from fennox.engine.backups.vault import Vault
from fennox.links.base import Credential
from fennox.service.restores.usual_durations import foretell_from
from saltmere import names, web
from saltmere.linux import LinuxServer, new_key_pair
from tests.backups import read_back
from tests.disks import differing, tree
from tests.engine.restoring.foretold import as_foretold, moves, running
from tests.engine.stories import PROGRAMS, STORIES
from tests.engine.story import Story, keeper_of, place_of, to_the_end

Install = Callable[..., LinuxServer]


def said(comparison: Comparison) -> list[str]:
    """Every change as one line without line numbers, and nothing of the rest."""
    signs = {"added": "+", "removed": "-", "changed": "~"}
    found = []
    for document in comparison.documents:
        found.append(f"{signs[document.what]} {document.path}")
        for change in [*document.attributes, *document.changes]:
            where = " / ".join(step for step in change.path if not step.startswith("line "))
            for sign, value in (("-", change.before), ("+", change.after)):
                found += [f"{sign} {where}: {value}"] if value is not None else []
    assert comparison.lists == []
    return found


# two are enough for `make test`: all are put back by the same code, by kinds of one build
_LONG = {
    "bind-name-server",
    "haproxy-load-balancer",
    "kea-dhcp-server",
    "libvirt-host",
    "nginx-web-server",
    "postgresql-server",
    "prometheus-server",
}


@pytest.fixture(
    params=[
        pytest.param(story, id=story.kind, marks=[pytest.mark.long] if story.kind in _LONG else [])
        for story in STORIES
    ]
)
def story(request: pytest.FixtureRequest) -> Story:
    found: Story = request.param
    if shutil.which(PROGRAMS[found.kind], path="/usr/bin:/usr/sbin") is None:
        pytest.skip(
            f"SKIPPED: {PROGRAMS[found.kind]} is not installed, so the kind {found.kind} is not"
            " proved"
        )
    return found


async def test_a_real_system_is_taken_changed_lost_and_comes_back_elsewhere(
    story: Story, vault: Vault, install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    story.install(server)
    story.configure(server)
    keeper = keeper_of(story, vault, server, key_pair[0])
    first = await keeper.take()
    assert [finding.code for finding in first.head.findings] == []
    assert {name: len(first.head.census[name]) for name in story.census} == story.census
    again = await keeper.take()
    untouched = await keeper.compare(first, again)
    assert (untouched.documents, untouched.lists) == ([], []), "nobody touched the program"
    story.change(server)
    assert said(await keeper.compare_live(again)) == story.changes, "before it is taken as well"
    taken = await keeper.take()
    assert said(await keeper.compare(again, taken)) == story.changes
    truth = story.truth(server)
    server.lose()
    fresh = install("fresh")
    story.install(fresh)
    before, key = tree(fresh), fresh.host_key
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))
    assert sheet.blockers() == []
    predicted = sheet.after.place
    await to_the_end(keeper, sheet, taken, fresh)
    assert sheet.proof is not None
    assert sheet.state == "proved", [item for item in sheet.proof.lists if item.missing] + [
        check for check in sheet.proof.checks if not check.passed
    ]
    assert story.truth(fresh) == truth
    assert place_of(fresh).key == predicted.key

    way, safety = await keeper.draft_way_back(sheet, taken)
    assert way.blockers() == []
    await to_the_end(keeper, way, safety, fresh)
    assert way.proof is not None
    assert way.state == "proved", [item for item in way.proof.lists if item.missing] + [
        check for check in way.proof.checks if not check.passed
    ]
    assert fresh.host_key == key
    assert {path for path in differing(before, tree(fresh)) if not moves(path)} == set()
    extra = {item.name: item.extra for item in way.proof.lists if item.extra}
    assert extra == {}, "what the restore added is gone"


@pytest.mark.parametrize("purpose", ["repair", "replace", "practise", "seed"])
@pytest.mark.long
async def test_what_a_sheet_foretells_is_what_happens(
    story: Story,
    vault: Vault,
    install: Install,
    key_pair: tuple[str, str],
    purpose: RestorePurpose,
) -> None:
    server = install("web-9")
    story.install(server)
    story.configure(server)
    keeper = keeper_of(story, vault, server, key_pair[0])
    taken = await keeper.take()
    truth = dict(story.truth(server))
    server.lose()
    private, public = new_key_pair("fresh-root")
    login = Credential("root", private_key=private)
    earlier: list[Sheet] = []
    for name in ("fresh", "another"):
        fresh = install(name, public)
        story.install(fresh)
        if purpose != "repair" and "address" in truth:  # it keeps its own, as the setting must
            own = story.own_settings(fresh)
            truth["address"] = own["metrics-address"].removeprefix("http://")
            keeper.settings.update(own)
        before, processes = tree(fresh), running(fresh, PROGRAMS[story.kind])
        sheet = await keeper.draft(taken, place_of(fresh), login, purpose=purpose)
        foretell_from(sheet, earlier)
        said = sheet.model_copy(deep=True)
        await to_the_end(keeper, sheet, taken, fresh)
        assert sheet.state == "proved", sheet.proof
        assert story.truth(fresh) == truth
        await as_foretold(keeper, said, sheet, before, fresh)
        restarted = running(fresh, PROGRAMS[story.kind]) != processes
        assert restarted <= bool(said.restarts), "a restart that was not foretold"
        earlier.append(sheet)
        fresh.stop()


async def test_what_the_target_does_not_accept_is_never_put_back(
    vault: Vault, install: Install, key_pair: tuple[str, str]
) -> None:
    story = next(story for story in STORIES if story.kind == "nginx-web-server")
    if shutil.which("nginx", path="/usr/bin:/usr/sbin") is None:
        pytest.skip("SKIPPED: nginx is not installed, so a refusal by the target is not proved")
    server = install("web-9")
    story.install(server)
    story.configure(server)
    server.write("/etc/nginx/conf.d/made-up.conf", "no_such_directive on;\n")
    keeper = keeper_of(story, vault, server, key_pair[0])
    taken = await keeper.take()
    server.lose()
    fresh = install("fresh")
    story.install(fresh)
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))
    with pytest.raises(FarSideFailed, match="no_such_directive"):
        await to_the_end(keeper, sheet, taken, fresh)
    assert "a fresh web server" in web.ask(fresh, "timetable.saltmere.example", "/")
    assert not (fresh.folder / "etc/nginx/conf.d/made-up.conf").exists()
    assert list((fresh.folder / "tmp").glob("fennox-check.*")) == []


async def test_zones_are_read_once_what_changed_in_them_is_written_out(
    vault: Vault, install: Install, key_pair: tuple[str, str]
) -> None:
    """`rndc sync` returns before anything is written: the newest names of a busy machine were
    missing in its backup.
    """
    [story] = [story for story in STORIES if story.kind == "bind-name-server"]
    server = install("web-9")
    story.install(server)
    story.configure(server)
    slow = '#!/bin/sh\n{ sleep 2; exec /usr/sbin/rndc "$@"; } < /dev/null > /dev/null 2>&1 &\n'
    into = "mkdir -p /usr/local/bin; cat > /usr/local/bin/rndc; chmod 755 /usr/local/bin/rndc"
    server.run("sh", "-c", into, feed=slow)
    names.update(server, "add ferry-12.ships.saltmere.example 300 A 198.51.100.12")
    taken = await keeper_of(story, vault, server, key_pair[0]).take()
    told = await read_back(vault, taken.reference.backup)
    assert taken.head.findings == []
    assert b"ferry-12" in told["/var/lib/bind/db.ships"]
