"""A real Linux server over a real SSH server: taken, changed, lost, restored onto a fresh one
elsewhere, proved.
"""

from __future__ import annotations

import os
import threading
from collections.abc import AsyncIterator, Callable
from dataclasses import replace
from pathlib import Path

import pytest

from fennox.core.errors import (
    BadInput,
    FarSideFailed,
    KeyChanged,
    KeyUnknown,
    LeaseLost,
    NotFound,
    PersonNeeded,
    Stopped,
    Unreachable,
    WrongLogin,
)
from fennox.core.format import sweeps
from fennox.core.format.manifest import Document
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.backups.vault import Vault
from fennox.engine.inspection import backup_comparison
from fennox.engine.inspection.backup_comparison import side_of
from fennox.engine.journal import MemoryJournal
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Address, Credential
from fennox.links.secure_shell import ssh
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair
from tests.backups import all_backups
from tests.disks import tree
from tests.engine.keeper import Here, Keeper
from tests.engine.restoring.foretold import as_foretold

Install = Callable[..., LinuxServer]


def place_of(server: LinuxServer) -> Place:
    return Place(address=f"{server.host}:{server.port}", account="root", key=server.host_key)


@pytest.fixture
def server(install: Install) -> LinuxServer:
    server = install("web-9")
    server.configure("ticket", files=8)
    return server


@pytest.fixture
def keeper(vault: Vault, server: LinuxServer, key_pair: tuple[str, str]) -> Keeper:
    login = Credential("root", private_key=key_pair[0])
    return Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})


async def test_what_is_taken_is_what_the_server_holds(keeper: Keeper, server: LinuxServer) -> None:
    taken = await keeper.take()
    reader = await keeper.reader(taken)
    held = {
        document.path: document
        for part in (await reader.head()).parts
        async for document in reader.documents(part)
    }
    on_disk = {
        f"/etc/{path.relative_to(server.folder / 'etc').as_posix()}"
        for path in (server.folder / "etc").rglob("*")
        if path.name != "machine-id"
    }
    assert {path for path in held if path.startswith("/etc/")} == on_disk
    for path, document in held.items():
        if document.type == "file":
            content = b"".join([piece async for piece in reader.content(document)])
            file = server.folder / path.lstrip("/")
            assert (content, document.mode) == (
                file.read_bytes(),
                file.stat().st_mode & 0o7777,
            ), path
    assert held["/etc/shadow"].secret
    assert not held["/etc/hosts"].secret
    assert "saltmere-ticket" in taken.head.census["packages"]
    assert taken.head.census["enabled units"] == ["saltmere-ticket.service"]
    assert [finding.code for finding in taken.head.findings] == []
    assert "/etc/machine-id" in taken.head.left_out


async def test_what_another_part_takes_is_not_called_left_out(keeper: Keeper) -> None:
    """A backup of the settings alone said that the accounts must be protected in another way."""
    partial = await keeper.take(parts=["settings"])
    assert "/etc/machine-id" in partial.head.left_out
    assert not {"/etc/passwd", "/etc/shadow", "/etc/ssh/ssh_host_*"} & set(partial.head.left_out)


async def test_an_unchanged_server_costs_one_small_object_and_a_change_little_more(
    keeper: Keeper, server: LinuxServer
) -> None:
    await keeper.take()
    again = await keeper.take()
    assert (again.nothing_new, again.written.objects) == (True, 1)
    assert again.reference.previous is not None
    server.write("/etc/hosts", "127.0.0.1 localhost\n10.9.0.7 northness\n")
    changed = await keeper.take()
    assert not changed.nothing_new
    assert changed.written.bytes < 60_000


async def run_to_the_end(
    keeper: Keeper, sheet: Sheet, taken: Taken, fresh: LinuxServer
) -> list[str]:
    """Answer every gate as a person would; returns the questions."""
    questions = []
    await keeper.restore(sheet, taken)
    while (gate := sheet.open_gate()) is not None:
        questions.append(gate.question)
        if "packages" in gate.question:
            fresh.set_packages(tuple(taken.head.census["packages"]))
        keeper.answer(sheet, gate.choices[0])
        await keeper.restore(sheet, taken)
    return questions


async def test_the_whole_story_lost_and_restored_onto_a_fresh_server_elsewhere(
    keeper: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await keeper.take()
    before = server.state()
    server.lose()
    private, public = new_key_pair("fresh-root")
    fresh = install("debian", public)
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=private))
    assert sheet.blockers() == []
    assert "/etc/hostname" in sheet.overwrites.changed
    assert sheet.after.place == Place(
        address=place_of(fresh).address, account="root", key=keeper.place.key
    )
    assert sheet.restarts == ["Make the SSH server read its keys and settings again"]
    assert not fresh.read("/etc/hostname").startswith("web-9"), "a draft changes nothing"

    [question] = await run_to_the_end(keeper, sheet, taken, fresh)

    assert "nginx-light" in question
    assert sheet.proof is not None
    assert sheet.state == "proved", sheet.proof
    written = {step.detail.rpartition(", ")[2] for step in sheet.steps if step.do == "write"}
    assert written == {"all read by the target"}
    counts = {item.name: (item.backup, item.fresh, item.after) for item in sheet.proof.lists}
    assert counts["accounts"] == (7, 3, 7)
    assert [check.passed for check in sheet.proof.checks] == [True, True, True, True]
    after = fresh.state()
    assert (after["accounts"], after["host key"]) == (before["accounts"], before["host key"])
    assert after["machine"] != before["machine"], "a reinstalled machine has an identity of its own"
    # what the sheet foretold is what happened: its login and host key are the old ones again
    keeper.place = sheet.after.place
    assert await keeper.who() == after["machine"] == sheet.target_machine
    with pytest.raises(WrongLogin):
        await ssh.connect(
            Address(fresh.host, fresh.port),
            Credential("root", private_key=private),
            keeper.place.key,
        )
    # the safety copy is an ordinary backup of what the fresh machine held
    assert sheet.safety in await all_backups(keeper.vault)
    # the same machine again, under its new identity: nothing but the machine id differs
    with pytest.raises(PersonNeeded, match="the system was"):
        await keeper.compare_live(taken)
    keeper.machine = sheet.target_machine
    live = await keeper.compare_live(taken)
    assert (live.documents, live.lists) == (
        [],
        [],
    ), "it counts as the system now, and is what it was"
    again = await keeper.take()
    assert again.head.census == taken.head.census


@pytest.mark.parametrize(
    "purpose",
    [
        "repair",
        "replace",
        pytest.param("practise", marks=pytest.mark.long),
        pytest.param("seed", marks=pytest.mark.long),
    ],
)
async def test_what_a_sheet_foretells_is_what_happens(
    keeper: Keeper, server: LinuxServer, install: Install, purpose: RestorePurpose
) -> None:
    taken = await keeper.take()
    server.lose()
    private, public = new_key_pair("fresh-root")
    fresh = install("debian", public)
    before, login = tree(fresh), Credential("root", private_key=private)
    sheet = await keeper.draft(taken, place_of(fresh), login, purpose=purpose)
    said = sheet.model_copy(deep=True)
    await run_to_the_end(keeper, sheet, taken, fresh)
    assert sheet.state == "proved", sheet.proof
    await as_foretold(keeper, said, sheet, before, fresh)


async def test_a_daemon_whose_number_changes_is_told_and_files_of_nobody_fail_the_proof(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    """A package on the fresh machine gives its account another number; its data belonged to nobody
    afterwards.
    """
    server.add_account("ferry-daemon", 110, "/var/lib/ferry")
    taken = await keeper.take()
    assert "ferry-daemon 110" in taken.head.census["account numbers"]
    assert not any(name.split(" ")[-1] == "x" for name in taken.head.census["account numbers"])
    server.lose()
    fresh = install("debian")
    fresh.add_account("ferry-daemon", 200, "/var/lib/ferry")
    fresh.write("/var/lib/ferry/retained.db", "bookings\n")
    os.chown(fresh.folder / "var/lib/ferry/retained.db", 200, 200)
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))
    [account, group] = [
        finding.text for finding in sheet.findings if finding.code == "other-numbers"
    ]
    assert (
        account
        == "Account numbers of the backup are not those of the target: ferry-daemon 110 (there"
        " 200)."
    )
    assert "ferry-daemon 110 (there 200)" in group
    await run_to_the_end(keeper, sheet, taken, fresh)
    assert sheet.state == "not proved"
    assert sheet.proof is not None
    [failed] = [check for check in sheet.proof.checks if not check.passed]
    assert "/var/lib/ferry/retained.db (owner 200, group 200)" in failed.detail
    os.chown(fresh.folder / "var/lib/ferry/retained.db", 110, 110)
    sheet.begin_proof_again()
    await keeper.restore(sheet, taken)
    assert [check.passed for check in sheet.proof.checks] == [True] * len(sheet.proof.checks)


async def test_what_changed_on_the_target_since_the_draft_is_shown_and_asked_once(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    taken = await keeper.take()
    fresh = install("debian")
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))
    server.stop()
    fresh.write("/etc/saltmere/ticket/003.conf", "somebody was here\n")
    questions = await run_to_the_end(keeper, sheet, taken, fresh)
    assert len([question for question in questions if "overwritten" in question]) == 1
    assert sheet.version == 2
    assert sheet.state == "proved", sheet.proof


async def test_what_the_target_has_more_of_since_the_draft_is_counted_anew_and_nobody_is_asked(
    keeper: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await keeper.take()
    server.lose()
    fresh = install("debian")
    sheet = await keeper.draft(taken, place_of(fresh), keeper.login)
    before = sheet.overwrites
    fresh.write("/etc/inventory.conf", "berth 4\n")
    questions = await run_to_the_end(keeper, sheet, taken, fresh)
    assert not any("drafted" in question for question in questions)
    assert sheet.overwrites == before.model_copy(update={"staying_count": before.staying_count + 1})
    [told] = [finding.text for finding in sheet.findings if finding.code == "overwrites"]
    assert f"{before.staying_count + 1} that only it has stay" in told


async def test_a_target_that_was_exchanged_for_another_product_since_the_draft_is_not_touched(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    taken = await keeper.take()
    server.stop()
    fresh = install("debian")
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))
    (fresh.folder / "etc/os-release").unlink()
    fresh.write("/etc/os-release", 'ID=otheros\nVERSION_ID="9"\n')
    with pytest.raises(FarSideFailed, match="the target is otheros"):
        await keeper.restore(sheet, taken)
    assert not fresh.read("/etc/hostname").startswith("web-9")


async def test_a_restore_that_loses_its_worker_is_taken_up_where_it_was(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    taken = await keeper.take()
    server.stop()
    fresh = install("debian")
    fresh.set_packages(tuple(taken.head.census["packages"]))
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))

    class Dying(MemoryJournal):
        async def step(self, title: str) -> None:
            self.lost = title.startswith("Put back accounts")
            await super().step(title)

    with pytest.raises(LeaseLost):
        await keeper.restore(sheet, taken, Dying())
    stored = Sheet.model_validate_json(keeper.saved[-1].model_dump_json())
    assert [step.state for step in stored.steps[:3]] == ["done", "done", "done"]
    await keeper.restore(stored, taken)
    assert stored.state == "proved"
    assert len([sheet for sheet in await all_backups(keeper.vault)]) == 2, (
        "one safety copy, not two"
    )


async def test_a_check_that_failed_before_its_worker_was_lost_has_failed_until_asked_again(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    server.append("/etc/passwd", "a line that is no account\n")
    taken = await keeper.take()
    server.stop()
    fresh = install("debian")
    fresh.set_packages(tuple(taken.head.census["packages"]))
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))

    class Dying(MemoryJournal):
        async def step(self, title: str) -> None:
            self.lost = title.startswith("Prove it")
            await super().step(title)

    with pytest.raises(LeaseLost):
        await keeper.restore(sheet, taken, Dying())
    stored = Sheet.model_validate_json(keeper.saved[-1].model_dump_json())
    await keeper.restore(stored, taken)
    assert stored.proof is not None
    assert (stored.state, [check.passed for check in stored.proof.checks]) == (
        "not proved",
        [False, True, True, True],
    )
    [failed] = [check for check in stored.proof.checks if not check.passed]
    assert "pwck ended with" in failed.detail

    stored.begin_proof_again()
    fresh.write("/etc/passwd", fresh.read("/etc/passwd").replace("a line that is no account\n", ""))
    await keeper.restore(stored, taken)
    assert [check.passed for check in stored.proof.checks] == [True, True, True, True]
    assert stored.state == "not proved", "now a document is not what the backup holds"
    assert "/etc/passwd" in [name for item in stored.proof.lists for name in item.missing]


async def test_restoring_chosen_parts_leaves_the_rest_alone(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    taken = await keeper.take()
    server.write("/etc/hosts", "mistake\n")
    server.append("/etc/passwd", "newcomer:x:1009:1009::/home/n:/bin/sh\n")
    server.append("/etc/shadow", "newcomer:*:20500:0:99999:7:::\n")
    login = Credential("root", private_key=key_pair[0])
    sheet = await keeper.draft(taken, keeper.place, login, ["settings"])
    assert [finding.code for finding in sheet.findings if finding.severity == "warning"] == [
        "in-place"
    ]
    assert sheet.overwrites.changed == ["/etc/hosts"]
    assert sheet.after.place == keeper.place
    await keeper.restore(sheet, taken)
    assert sheet.proof is not None
    assert sheet.state == "proved", sheet.proof
    assert "accounts" in sheet.proof.left_out_lists
    assert "web-9" in server.read("/etc/hosts")
    assert "newcomer" in server.read("/etc/passwd")


async def test_a_part_put_onto_a_spare_machine_leaves_its_login_and_key_as_they_are(
    keeper: Keeper, server: LinuxServer, install: Install
) -> None:
    taken = await keeper.take()
    private, public = new_key_pair("spare-root")
    spare = install("spare", public)
    sheet = await keeper.draft(
        taken, place_of(spare), Credential("root", private_key=private), ["settings"]
    )
    assert sheet.after.place == place_of(spare)
    assert "other-machine" in [finding.code for finding in sheet.findings]
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    assert spare.host_key == place_of(spare).key
    assert "spare-root" in spare.read("/root/.ssh/authorized_keys")


async def test_a_missing_name_after_the_restore_is_told_and_the_restore_is_not_proved(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    taken = await keeper.take()
    server.stop()
    fresh = install("debian")
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))
    await keeper.restore(sheet, taken)
    keeper.answer(sheet, "done")  # said, but not done: the packages were never installed
    await keeper.restore(sheet, taken)
    keeper.answer(sheet, "skip")
    await keeper.restore(sheet, taken)
    assert sheet.proof is not None
    [packages] = [item for item in sheet.proof.lists if item.name == "packages"]
    assert (sheet.state, packages.missing) == (
        "not proved",
        ["cron", "nginx-light", "saltmere-ticket"],
    )


async def test_another_machine_at_the_address_stops_the_take_and_asks(
    keeper: Keeper, server: LinuxServer
) -> None:
    await keeper.take()
    server.write("/etc/machine-id", "0" * 32 + "\n")
    with pytest.raises(PersonNeeded, match="reinstalled, replaced, or this is the wrong machine"):
        await keeper.take()
    assert len(await all_backups(keeper.vault)) == 1


@pytest.mark.parametrize("how", ["stop", "lost"])
async def test_a_take_that_is_stopped_or_taken_away_leaves_no_record(
    keeper: Keeper, how: str
) -> None:
    class Interrupted(MemoryJournal):
        async def progress(self, *, documents: int = 0, bytes: int = 0) -> None:
            setattr(self, how, documents > 3)
            await super().progress(documents=documents, bytes=bytes)

    with pytest.raises((Stopped, LeaseLost)):
        await keeper.take(Interrupted())
    assert await all_backups(keeper.vault) == []
    await keeper.take()
    assert len(await all_backups(keeper.vault)) == 1


async def test_a_resumed_take_finds_the_record_of_its_first_attempt(keeper: Keeper) -> None:
    taken = await keeper.take(backup="ab" * 16)
    again = await keeper.take(backup="ab" * 16, attempt=2, time=taken.reference.time)
    assert (again.digest, len(await all_backups(keeper.vault))) == (taken.digest, 1)
    assert (again.nothing_new, again.documents) == (False, taken.documents)


async def test_what_a_sweep_condemns_while_a_take_relies_on_it_is_written_anew(
    keeper: Keeper, vault: Vault
) -> None:
    """The take failed, and the night had no backup."""
    await keeper.take()
    packs = [
        found.name.rsplit("/", 1)[-1].removesuffix(".fxp")
        async for found in vault.store.list("packs/")
    ]

    class SweptMeanwhile(MemoryJournal):
        swept = False

        async def step(self, title: str) -> None:
            if title == "Write the record" and not self.swept:
                self.swept = True
                sweep = sweeps.Sweep(
                    stage="condemned", time="20260302T000000Z", by="t", condemned=packs, removed=[]
                )
                data = sweeps.encode(sweep, vault.secret, vault.id, vault.salt())
                await vault.store.put(sweeps.name("20260302T000000Z", "00aa"), data)
            await super().step(title)

    taken = await keeper.take(SweptMeanwhile())
    assert len(await all_backups(vault)) == 2
    assert not taken.nothing_new, "it has written its content anew"
    assert set(packs).isdisjoint((await (await keeper.reader(taken)).id_list()).values())


async def test_unknown_parts_and_settings_are_refused_before_anything_is_read(
    keeper: Keeper,
) -> None:
    with pytest.raises(BadInput, match="no part holidays"):
        await keeper.take(parts=["holidays"])
    keeper.settings["colour"] = "ember"
    with pytest.raises(BadInput, match="no setting colour"):
        await keeper.take()


async def test_reaching_says_what_is_wrong(server: LinuxServer, key_pair: tuple[str, str]) -> None:
    address, login = Address(server.host, server.port), Credential("root", private_key=key_pair[0])
    with pytest.raises(KeyUnknown) as unknown:
        await ssh.connect(address, login, None)
    assert unknown.value.fields["fingerprint"] == server.host_key
    with pytest.raises(KeyChanged, match="reinstalled"):
        await ssh.connect(address, login, "SHA256:something-else")
    with pytest.raises(WrongLogin):
        await ssh.connect(
            address, Credential("root", private_key=new_key_pair("x")[0]), server.host_key
        )
    with pytest.raises(WrongLogin, match="cannot be read"):
        await ssh.connect(address, Credential("root", private_key="not a key"), server.host_key)
    for unsendable in (
        Credential("ro\U0004cf36ot", private_key=key_pair[0]),
        Credential("root\x07", password="x"),
    ):
        with pytest.raises(WrongLogin, match="a character that SSH cannot send"):
            await ssh.connect(address, unsendable, server.host_key)
    server.stop()
    with pytest.raises(Unreachable):
        await ssh.connect(address, login, server.host_key)


async def test_a_command_that_fails_or_never_ends_is_told(keeper: Keeper) -> None:
    link = await ssh.connect(Address(*_split(keeper.place.address)), keeper.login, keeper.place.key)
    try:
        failed = await link.run(["sh", "-c", "echo why >&2; exit 3"])
        assert (failed.code, failed.errors) == (3, "why")
        with pytest.raises(FarSideFailed, match="did not end"):
            await link.run(["sleep", "60"], limit=0.2)
        assert (await link.run(["printf", "%s", "a b; $HOME `id`"])).output == b"a b; $HOME `id`"
    finally:
        await link.close()


def _split(address: str) -> tuple[str, int]:
    host, port = address.rsplit(":", 1)
    return host, int(port)


async def test_names_that_are_not_text_links_and_devices_are_kept_or_told(
    keeper: Keeper, server: LinuxServer, install: Install, key_pair: tuple[str, str]
) -> None:
    folder = server.folder / "etc/odd"
    folder.mkdir()
    (folder / "link").symlink_to("../nowhere/\n")
    Path(os.fsdecode(os.fsencode(folder) + b"/caf\xe9")).write_bytes(b"latin")
    (folder / "new\nline").write_bytes(b"x")
    (folder / "empty").write_bytes(b"")
    os.mkfifo(folder / "pipe")
    os.link(server.folder / "etc/hosts", folder / "same")
    taken = await keeper.take()
    assert "/etc/odd/pipe" in taken.head.left_out
    server.stop()
    fresh = install("debian")
    fresh.set_packages(tuple(taken.head.census["packages"]))
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=key_pair[0]))
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    names = sorted(os.listdir(os.fsencode(fresh.folder / "etc/odd")))
    assert names == [b"caf\xe9", b"empty", b"link", b"new\nline", b"same"]
    assert os.readlink(fresh.folder / "etc/odd/link") == "../nowhere/\n"
    assert (fresh.folder / "etc/odd/same").read_text() == server.read("/etc/hosts")


@pytest.mark.parametrize("trust", [False, True])
async def test_a_file_that_grows_while_it_is_read_is_read_again_and_then_told(
    keeper: Keeper, server: LinuxServer, *, trust: bool
) -> None:
    server.write("/etc/growing.log", "x" * 20_000_000)
    path, enough = server.folder / "etc/growing.log", threading.Event()

    def grow() -> None:
        while not enough.wait(0.002):
            with path.open("a") as file:
                file.write("more\n")

    growing = threading.Thread(target=grow)
    growing.start()
    try:
        taken = await keeper.take(trust=trust)
    finally:
        enough.set()
        growing.join()
    [moved] = [finding for finding in taken.head.findings if finding.code == "moved-while-read"]
    assert moved.text.startswith("Something in the part settings changed")
    assert "growing.log" in moved.text
    assert taken.likeness == "", "the next take reads it"
    reader = await keeper.reader(taken)
    found = [document async for document in reader.documents(await reader.part("settings"))]
    assert [document.path for document in found if document.moved] == ["/etc/growing.log"]
    assert len({document.path for document in found}) == len(found)


async def test_a_store_without_plain_names_tells_no_names(
    store_folder: Path, server: LinuxServer, keeper: Keeper
) -> None:
    keeper.vault.header = keeper.vault.header.model_copy(update={"plain_names": False})
    await keeper.take(name="secret-plan")
    names = " ".join(path.as_posix() for path in store_folder.rglob("*"))
    assert "web-9" not in names
    assert "secret-plan" not in names
    assert len(await all_backups(keeper.vault)) == 1


async def test_where_very_much_differs_documents_are_named_and_told_a_few_at_a_time(
    keeper: Keeper, server: LinuxServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(backup_comparison, "MOST_CHANGES", 50)
    first = await keeper.take()
    for number in range(6):
        server.write(
            f"/etc/ferry/page-{number}", "".join(f"{number} now at {line}\n" for line in range(20))
        )
    second = await keeper.take()
    for number in range(6):
        server.write(
            f"/etc/ferry/page-{number}", "".join(f"{number} then at {line}\n" for line in range(20))
        )
    third = await keeper.take()
    left, right = [await side_of(await keeper.reader(taken)) for taken in (second, third)]
    read: list[str] = []

    def counted(document: Document) -> AsyncIterator[bytes] | None:
        read.append(document.path)
        return right.content(document)

    found = await backup_comparison.compare(
        keeper.kind, left, replace(right, content=counted), b"s" * 16, Here(), patches=True
    )
    assert [(len(document.changes), bool(document.patch)) for document in found.documents] == [
        (20, True), (20, True), (10, False), (0, False), (0, False), (0, False),
    ]  # fmt: skip
    assert "Only the first 10 changes are shown" in found.documents[2].said
    assert "too much differs" in found.documents[5].said
    assert read == [f"/etc/ferry/page-{number}" for number in range(3)]

    some = await backup_comparison.compare(
        keeper.kind, left, right, b"s" * 16, Here(), only=["/etc/ferry/page-[45]", "/etc/hosts"]
    )
    assert [(document.path[-1], len(document.changes)) for document in some.documents] == [
        ("4", 20),
        ("5", 20),
    ]
    assert (some.same, some.lists) == (1, [])
    with pytest.raises(NotFound, match="like /no/such"):
        await backup_comparison.compare(
            keeper.kind, left, right, b"s" * 16, Here(), only=["/no/such"]
        )
    whole = await keeper.compare(first, second)
    assert [change.name for change in whole.lists] == ["files"]
