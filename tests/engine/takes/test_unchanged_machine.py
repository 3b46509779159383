"""A machine that answers as it did is not read; one of which anything has changed is, and nothing
is missed.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import pytest

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import KindFile
from fennox.core.format.packs import digest_in_name
from fennox.core.format.sweeps import Sweep
from fennox.core.kind_files.loading import load, whole
from fennox.core.time import stamp
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.reading import file_survey, inquiry
from fennox.engine.reading.inquiry import is_asked_whole
from fennox.engine.takes import unchanged_machine
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.backups import read_back
from tests.engine.keeper import Keeper, shipped_kind, shipped_text
from tests.engine.reading.test_file_stamps import WAYS, change
from tests.engine.restoring.test_linux_server import place_of

Install = Callable[..., LinuxServer]
PAGE = "/etc/ferry/timetable"
SAYS = """
[[part]]
name = "says"
title = "What a program says"

[[part.source]]
run = ["sh", "-c", "cat /tmp/said; cat /tmp/beside >&2; exit $(cat /tmp/code)"]
codes = [0, 3]
document = "said.txt"

[[part]]
name = "made"
title = "What a program makes of a file"

[[part.source]]
run = ["sh", "-c", "echo >> /var/ran; cat /var/made/of"]
made_from = ["/var/made"]
document = "made.txt"
"""


@pytest.fixture
def server(install: Install) -> LinuxServer:
    server = install("web-9")
    server.write(PAGE, "old times\n" * 9000)
    (server.folder / PAGE.lstrip("/")).with_name("link").symlink_to("timetable")
    for name, text in (("said", "as ever\n"), ("beside", ""), ("code", "0")):
        server.write(f"/tmp/{name}", text)
    server.write("/var/made/of", "this\n")
    return server


@pytest.fixture
def keeper(
    vault: Vault, server: LinuxServer, key_pair: tuple[str, str], monkeypatch: pytest.MonkeyPatch
) -> Keeper:
    monkeypatch.setattr(
        file_survey, "_TOO_FRESH", -5
    )  # a test does not wait until its files are old
    login = Credential("root", private_key=key_pair[0])
    keeper = Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})
    text = shipped_text("linux-server").replace("\n[census]", f"{SAYS}\n[census]")
    keeper.kind = load(text, shipped_text)
    keeper.kind_file = KindFile(
        name="linux-server", version=keeper.kind.version, text=whole(text, shipped_text)
    )
    return keeper


async def night(keeper: Keeper, journal: MemoryJournal | None = None) -> Taken:
    """A take as a routine makes it."""
    likeness = keeper.last.likeness if keeper.last else ""
    return await keeper.take(journal, trust=True, likeness=likeness)


async def content(keeper: Keeper, taken: Taken) -> dict[str, bytes]:
    return await read_back(keeper.vault, taken.reference.backup)


async def test_a_machine_that_answers_as_it_did_is_not_read(
    keeper: Keeper, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = await night(keeper)
    assert (first.as_before, len(first.likeness)) == (False, 64)

    def never(*_: object, **__: object) -> None:
        raise AssertionError("documents are read")

    monkeypatch.setattr("fennox.engine.takes.take.gather", never)
    journal = MemoryJournal()
    second = await night(keeper, journal)
    assert (second.as_before, second.nothing_new, second.written.objects) == (True, True, 1)
    assert second.head == first.head
    assert second.likeness == first.likeness
    assert second.reference.read_whole == first.reference.time
    assert (second.reference.sizes.documents, second.reference.sizes.bytes) == (
        first.reference.sizes.documents,
        first.reference.sizes.bytes,
    )
    assert await content(keeper, second) == await content(keeper, first)
    assert any("answers as it did" in text for _, text in journal.lines)
    needed = [await (await keeper.reader(taken)).needed() for taken in (first, second)]
    assert needed[0] == needed[1]
    third = await night(keeper)
    assert third.as_before
    assert third.reference.read_whole == first.reference.time


@pytest.mark.parametrize(
    "way",
    [*WAYS, "link", "folder", "said", "beside", "code", "made", "setting", "version", "parts"],
)
async def test_whatever_changes_is_read(
    keeper: Keeper, server: LinuxServer, way: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    await night(keeper)
    file = change(server, PAGE, way)
    parts = None
    match way:
        case "link":
            link = file.with_name("link")
            link.unlink()
            link.symlink_to("elsewhere")
        case "folder":
            file.parent.chmod(0o700)
        case "said" | "beside":
            server.write(f"/tmp/{way}", "something new\n")
        case "code":
            server.write("/tmp/code", "3")
        case "made":
            server.write("/var/made/of", "that\n")
        case "setting":
            keeper.settings = {**keeper.settings, "without": "/etc/ferry/none"}
        case "version":
            monkeypatch.setattr(unchanged_machine, "__version__", "99")
        case "parts":
            parts = ["settings"]
    assert keeper.last is not None
    taken = await keeper.take(trust=True, likeness=keeper.last.likeness, parts=parts)
    assert not taken.as_before
    held = await content(keeper, taken)
    assert held.get(PAGE) == (None if way == "gone" else file.read_bytes())
    if way == "said":
        assert held["said.txt"] == b"something new\n"
    assert held.get("made.txt") == {"made": b"that\n", "parts": None}.get(way, b"this\n")
    if way == "beside":
        assert any("something new" in finding.text for finding in taken.head.findings)
    if way != "parts":
        assert (await night(keeper)).as_before, "the next night knows how it answers now"


async def test_a_program_is_not_asked_while_what_its_output_is_made_from_stays(
    keeper: Keeper, server: LinuxServer
) -> None:
    ran = server.folder / "var/ran"
    await night(keeper)
    assert [(await night(keeper)).as_before for _ in range(2)] == [True, True]
    assert ran.read_text() == "\n", "once in three nights"
    server.write("/var/made/of", "that\n")
    assert (await content(keeper, await night(keeper)))["made.txt"] == b"that\n"
    assert ran.read_text() == "\n\n"
    await keeper.take()
    assert ran.read_text() == "\n\n\n", "for a person it is asked"
    (server.folder / "var/made/of").unlink()
    (server.folder / "var/made").rmdir()
    with pytest.raises(FarSideFailed, match="sh for the part made ended with 1"):
        await night(keeper)


async def test_what_was_written_just_now_is_read_the_next_time(
    keeper: Keeper, server: LinuxServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.undo()
    server.write(PAGE, "written this moment\n")
    assert (await night(keeper)).likeness == "", "it may be written again without another time"
    assert not (await night(keeper)).as_before


async def test_after_a_week_everything_is_read_again(keeper: Keeper) -> None:
    await night(keeper)
    keeper.clock += timedelta(days=8)
    taken = await night(keeper)
    assert not taken.as_before
    assert taken.reference.read_whole == taken.reference.time
    assert (await night(keeper)).as_before


async def test_a_folder_whose_files_another_part_takes_is_held_however_it_is_read(
    keeper: Keeper, server: LinuxServer
) -> None:
    """A backup by hand lacked /etc/sudoers.d, one by a routine had it, and no restore of that one
    was proved.
    """
    server.write("/etc/sudoers.d/harbour", "%harbour ALL=(root) /usr/bin/true\n", mode=0o440)
    by_hand, by_routine = await keeper.take(), await night(keeper)
    assert "/etc/sudoers.d" in by_hand.documents["settings"]
    assert "/etc/sudoers.d/harbour" in by_hand.documents["accounts"]
    assert by_routine.documents == by_hand.documents
    live = await keeper.compare_live(by_routine)
    assert (live.documents, live.lists) == ([], [])


async def test_what_lies_in_a_damaged_pack_is_read_again(keeper: Keeper) -> None:
    first = await night(keeper)
    for name in list(keeper.index.packs):
        keeper.index.mark_damaged(name, "a bit turned over")
    second = await night(keeper)
    assert not second.as_before
    assert second.written.content > 0
    keeper.index = PackIndex()
    assert await content(keeper, second) == await content(keeper, first)


async def test_what_a_sweep_condemned_within_the_minute_no_backup_relies_on(keeper: Keeper) -> None:
    await night(keeper)
    assert (await night(keeper)).as_before
    condemned = [digest_in_name(name) for name in keeper.index.packs]
    now, by = stamp(keeper.now()), keeper.vault.header.sweeper
    await keeper.vault.write_sweep(
        Sweep(stage="condemned", time=now, by=by, condemned=condemned, removed=[])
    )
    taken = await night(keeper)
    assert not taken.as_before
    assert taken.written.content > 0
    assert set(condemned).isdisjoint((await (await keeper.reader(taken)).id_list()).values())


async def test_packs_that_another_process_wrote_are_looked_for(keeper: Keeper) -> None:
    mine = PackIndex()
    await mine.refresh(keeper.vault)
    await night(keeper)
    keeper.index = mine
    assert (await night(keeper)).as_before


async def test_a_backup_before_that_is_gone_or_damaged_is_no_reason_to_fail(keeper: Keeper) -> None:
    first = await night(keeper)
    await keeper.vault.store.delete(keeper.vault.record_name(first.reference))
    second = await night(keeper)
    assert not second.as_before
    assert (await content(keeper, second))[PAGE].startswith(b"old times")


async def test_a_person_who_takes_it_has_everything_read(keeper: Keeper) -> None:
    first = await night(keeper)
    taken = await keeper.take(likeness=first.likeness)
    assert (taken.as_before, taken.likeness) == (False, "")
    assert taken.reference.read_whole == taken.reference.time


async def test_long_outputs_are_read_as_they_come(
    keeper: Keeper, server: LinuxServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(
        inquiry, "_SHORT", 50
    )  # bytes: the list of packages is longer, and so is what is said
    server.write("/tmp/said", "a long story\n" * 50_000)
    taken = await night(keeper)
    assert taken.likeness == "", "too much to be kept"
    held = await content(keeper, taken)
    assert held["said.txt"] == b"a long story\n" * 50_000
    assert len(held["packages.tsv"]) > 50
    server.write("/tmp/code", "4")
    with pytest.raises(FarSideFailed, match="sh for the part says ended with 4"):
        await night(keeper)


async def test_what_goes_between_the_look_and_the_reading_leaves_no_likeness(
    keeper: Keeper, monkeypatch: pytest.MonkeyPatch
) -> None:
    await night(keeper)
    ghost = "; echo -n 'f 1 1 1 1 /etc/ferry/ghost'"
    monkeypatch.setattr(file_survey, "_STAMPS", file_survey._STAMPS.replace("exec ", "") + ghost)
    assert (await night(keeper)).likeness == ""


def test_which_kinds_answer_for_everything() -> None:
    parts = {
        name: [part.name for part in shipped_kind(name)[0].part]
        for name in ("linux-server", "storage-server")
    }
    assert is_asked_whole(shipped_kind("linux-server")[0], parts["linux-server"])
    assert not is_asked_whole(shipped_kind("storage-server")[0], parts["storage-server"]), (
        "it is asked over HTTPS"
    )
    text = shipped_text("linux-server")
    made = (
        'made_from = ["/var/lib/dpkg/status", "/var/lib/dpkg/updates"]\ndocument = "packages.tsv"'
    )
    assert made in text
    each = text.replace(made, 'each = ["echo", "a"]\ndocument = "{each}"')
    assert not is_asked_whole(load(each, shipped_text), parts["linux-server"]), (
        "names must be listed first"
    )
    settled = text.replace('"/etc/ssh/ssh_host_*"]\n', '"/etc/ssh/ssh_host_*"]\nsettled = 60\n')
    assert not is_asked_whole(load(settled, shipped_text), parts["linux-server"]), (
        "time alone changes what is settled"
    )
