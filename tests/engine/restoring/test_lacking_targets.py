"""A target that lacks programs or packages: a draft says so and does not die of it; what people say
is looked at.
"""

from __future__ import annotations

import pytest

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import KindFile
from fennox.core.kind_files.loading import load, whole
from saltmere.linux import LinuxServer
from tests.engine.keeper import Keeper, shipped_kind, shipped_text
from tests.engine.restoring.test_linux_server import (
    Install,
    keeper,
    place_of,
    run_to_the_end,
    server,
)

__all__ = ["keeper", "server"]

TIDE = """
name = "tide-server"
includes = ["linux-server"]
version = 1
title = "Tide server"

[[part]]
name = "tides"
title = "What the tide server holds"
[[part.source]]
run = ["sh", "-c", "cat /srv/tide/high /srv/tide/low"]
document = "tides.txt"

[[part]]
name = "tide-files"
title = "Files of the tide server"
[[part.source]]
files = ["/srv/tide/*"]

[[restore.prepare]]
title = "Have the target look at the tides"
do = "validate"
parts = ["tide-files"]
run = ["test", "-d", "{scratch}/srv"]

[[restore.write]]
title = "Put back the tides"
do = "write"
parts = ["tide-files"]
undone = false
"""


@pytest.fixture
def tides(keeper: Keeper, server: LinuxServer) -> Keeper:
    keeper.kind = load(TIDE, shipped_text)
    keeper.kind_file = KindFile(name="tide-server", version=1, text=whole(TIDE, shipped_text))
    for name in ("high", "low"):
        server.write(f"/srv/tide/{name}", f"{name} water\n")
    return keeper


async def test_a_program_that_is_not_there_yet_is_told_and_what_it_holds_is_proved_afterwards(
    tides: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await tides.take()
    server.lose()
    fresh = install("debian")
    sheet = await tides.draft(taken, place_of(fresh), tides.login)
    [told] = [finding for finding in sheet.findings if finding.code == "unread"]
    assert told.text.startswith(
        "What the target holds of What the tide server holds is not known: sh for the part "
    )
    assert sheet.blockers() == []
    await run_to_the_end(tides, sheet, taken, fresh)
    assert sheet.state == "proved", sheet.proof
    saved = next(record for record in tides.saved if record.safety is not None)
    assert saved.safety
    note = (await tides.vault.find_record(saved.safety)).reference.note
    assert note.endswith("Not read: What the tide server holds.")


async def test_what_the_restored_machine_still_does_not_tell_is_no_proof(
    tides: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await tides.take()
    server.lose()
    fresh = install("debian")
    sheet = await tides.draft(
        taken, place_of(fresh), tides.login, ["tides", "settings", "accounts", "packages"]
    )
    await run_to_the_end(tides, sheet, taken, fresh)
    assert sheet.proof is not None
    assert (sheet.state, sheet.proof.proved) == ("not proved", False)
    [check] = [check for check in sheet.proof.checks if check.title.startswith("Read ")]
    assert "No such file" in check.detail
    assert all(not item.missing for item in sheet.proof.lists), "nothing else would have told it"


async def test_nothing_but_what_cannot_be_read_ends_a_draft(
    tides: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await tides.take()
    with pytest.raises(FarSideFailed, match="ended with 1"):
        await tides.draft(taken, place_of(install("debian")), tides.login, ["tides"])


async def test_packages_that_were_said_to_be_installed_are_looked_for(
    keeper: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await keeper.take()
    server.lose()
    fresh = install("debian")
    sheet = await keeper.draft(taken, place_of(fresh), keeper.login)
    await keeper.restore(sheet, taken)
    gate = sheet.open_gate()
    assert gate is not None
    assert gate.choices == ["done"]
    [last, *most] = next(step.names for step in sheet.steps if step.number == gate.step)
    keeper.answer(sheet, "done")
    await keeper.restore(sheet, taken)
    gate = sheet.open_gate()
    assert gate is not None
    assert gate.question.startswith("The target still lacks: ")
    assert gate.choices == ["done", "skip"]
    assert not fresh.read("/etc/hostname").startswith("web-9"), "nothing was put back meanwhile"
    fresh.set_packages(tuple(name for name in taken.head.census["packages"] if name != last))
    assert most
    keeper.answer(sheet, "done")
    await keeper.restore(sheet, taken)
    gate = sheet.open_gate()
    assert gate is not None
    assert f"lacks: {last}. " in gate.question
    keeper.answer(sheet, "skip")
    await keeper.restore(sheet, taken)
    assert sheet.state == "not proved"
    assert sheet.proof is not None
    assert [item.missing for item in sheet.proof.lists if item.name == "packages"] == [[last]]


async def test_what_is_missing_is_installed_before_the_targets_own_programs_look(
    tides: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await tides.take()
    server.stop()
    sheet = await tides.draft(taken, place_of(install("debian")), tides.login)
    order = [step.do for step in sheet.steps]
    assert order.index("gate") < order.index("validate") < order.index("write")


@pytest.mark.parametrize("name", ["postgresql-server", "bind-name-server", "libvirt-host"])
def test_shipped_kinds_have_it_so(name: str) -> None:
    kind, _ = shipped_kind(name)
    order = [step.do for _, step in kind.steps()]
    assert order.index("gate") < order.index("validate") < order.index("write")
