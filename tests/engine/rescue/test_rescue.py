"""The offline reader, run as a person would: Debian's own Python and packages, a copy of the store,
a passphrase.
"""

from __future__ import annotations

import base64
import json
import os
import shlex
import shutil
import subprocess
from pathlib import Path

import pytest

from fennox.core.format import notes
from fennox.core.format.manifest import Document
from fennox.engine.backups.backup_writer import BackupWriter
from fennox.engine.backups.pack_index import PackIndex
from fennox.engine.backups.vault import Vault
from tests.backups import SYSTEM, commit, once, store_backup
from tests.conftest import PASSPHRASE, fixed_now, make_vault

DEBIAN_PYTHON = "/usr/bin/python3"
DOCUMENTS = {"/etc/hosts": b"127.0.0.1 localhost\n", "/etc/ferry.conf": os.urandom(300_000)}


def rescue(
    folder: Path, *arguments: str, passphrase: str = PASSPHRASE
) -> subprocess.CompletedProcess[str]:
    phrase = folder.parent / "phrase.txt"
    phrase.write_text(passphrase + "\n")
    command = [
        DEBIAN_PYTHON,
        "-I",
        str(folder / "rescue.py"),
        arguments[0],
        str(folder),
        *arguments[1:],
    ]
    return subprocess.run(
        [*command, "--passphrase-file", str(phrase)],
        capture_output=True,
        text=True,
        check=False,
        timeout=300,
    )


async def test_list_check_and_extract_without_fennox(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    backup, _ = await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    listed = rescue(store_folder, "list")
    assert listed.returncode == 0, listed.stderr
    assert backup[:12] in listed.stdout
    assert "web-9" in listed.stdout
    checked = rescue(store_folder, "check")
    assert checked.returncode == 0
    assert "1 backup with 2 documents" in checked.stderr
    out = tmp_path / "out"
    extracted = rescue(store_folder, "extract", "first", str(out))
    assert extracted.returncode == 0, extracted.stderr
    assert (out / "settings/etc/hosts").read_bytes() == DOCUMENTS["/etc/hosts"]
    assert (out / "settings/etc/ferry.conf").read_bytes() == DOCUMENTS["/etc/ferry.conf"]
    assert (out / "settings/etc/hosts").stat().st_mode & 0o777 == 0o640
    assert len(json.loads((out / "DOCUMENTS.json").read_text())["documents"]) == 2


async def test_patterns_take_out_single_documents(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    out = tmp_path / "out"
    done = rescue(
        store_folder,
        "extract",
        "first",
        str(out),
        "--document",
        "/etc/*.conf",
        "--document",
        "/nothing",
    )
    assert done.returncode == 0
    assert "1 of 1 document of" in done.stderr
    assert [path.name for path in out.rglob("*") if path.is_file()] == [
        "DOCUMENTS.json",
        "ferry.conf",
    ]
    none = rescue(store_folder, "extract", "first", str(tmp_path / "none"), "--document", "/srv/*")
    assert "No document fits /srv/*." in none.stderr


async def test_a_damaged_document_is_named_and_the_rest_comes_out(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    index = PackIndex()
    await store_backup(vault, index, {"/etc/ferry.conf": DOCUMENTS["/etc/ferry.conf"]})
    [victim] = [p for p in (store_folder / "packs").glob("*/*.fxp") if p.stat().st_size > 100_000]
    await store_backup(vault, index, DOCUMENTS, name="second", sequence=2)
    data = bytearray(victim.read_bytes())
    data[150_000] ^= 1
    victim.write_bytes(data)
    out = tmp_path / "out"
    extracted = rescue(store_folder, "extract", "second", str(out))
    assert extracted.returncode == 1
    assert "DAMAGED settings /etc/ferry.conf" in extracted.stderr
    assert (out / "settings/etc/hosts").read_bytes() == DOCUMENTS["/etc/hosts"]
    assert not (out / "settings/etc/ferry.conf").exists()
    assert victim.name in rescue(store_folder, "check").stderr


async def test_a_wrong_passphrase_and_an_empty_folder_are_said_plainly(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    wrong = rescue(store_folder, "list", passphrase="nothing of the kind")
    assert wrong.returncode == 4
    assert "opens none" in wrong.stderr
    assert wrong.stdout == ""
    for path in (store_folder / "header").iterdir():
        path.unlink()
    empty = rescue(store_folder, "list")
    assert empty.returncode == 3
    assert "holds no store" in empty.stderr


async def test_extract_does_not_write_into_a_folder_that_holds_something(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    (tmp_path / "out").mkdir()
    (tmp_path / "out/mine").write_text("mine")
    refused = rescue(store_folder, "extract", "first", str(tmp_path / "out"))
    assert (refused.returncode, sorted(p.name for p in (tmp_path / "out").iterdir())) == (
        2,
        ["mine"],
    )


async def test_a_document_with_a_hostile_path_stays_below_the_target(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    await store_backup(vault, PackIndex(), {"/../../../escaped": b"x"}, name="bad")
    rescue(store_folder, "extract", "bad", str(tmp_path / "deep/out"))
    assert not (tmp_path / "escaped").exists()
    assert (tmp_path / "deep/out/settings/escaped").read_bytes() == b"x"


async def held(vault: Vault, *documents: Document, content: bytes = b"x\n", **about: object) -> str:
    """A backup of documents as they are given, of which files all have the same content."""
    writer = BackupWriter(vault, PackIndex(), await vault.condemned())
    stored = await writer.add_content(once(content), expected=len(content), apart=False)
    files = {"size": stored.size, "digest": stored.digest, "chunks": stored.chunks}
    whole = [one.model_copy(update=files) if one.type == "file" else one for one in documents]
    return await commit(writer, whole, sequence=1, **{"name": "first", **about})  # type: ignore[arg-type]


def in_order(*documents: Document) -> list[Document]:
    return sorted(documents, key=Document.path_bytes)


async def test_names_modes_times_and_owners_come_out_as_they_were(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    raw = b"/etc/latin1-\xe9.conf"
    await held(
        vault,
        *in_order(
            Document(path="/etc", type="folder", mode=0o750, modified=1_700_000_000, uid=0, gid=4),
            Document(
                path="/etc/here", type="link", link="latin1", modified=1_600_000_000, uid=33, gid=33
            ),
            Document(
                path=raw.decode("utf-8", "surrogateescape").encode("utf-8", "replace").decode(),
                type="file",
                raw_path=base64.b64encode(raw).decode(),
                mode=0o640,
                modified=1_500_000_000,
                uid=33,
                gid=33,
            ),
            Document(
                path="/etc/su", type="file", mode=0o4755, modified=1_500_000_000, uid=0, gid=0
            ),
        ),
    )
    out, owners = tmp_path / "out", tmp_path / "owners.sh"
    done = rescue(store_folder, "extract", "first", str(out), "--owners", str(owners))
    assert done.returncode == 0, done.stderr
    base = os.fsencode(out) + b"/settings"
    told = os.stat(base + raw)
    assert (told.st_mode & 0o7777, told.st_mtime) == (0o640, 1_500_000_000)
    folder, link = os.stat(base + b"/etc"), os.lstat(base + b"/etc/here")
    assert (folder.st_mode & 0o7777, folder.st_mtime, link.st_mtime) == (
        0o750,
        1_700_000_000,
        1_600_000_000,
    )
    assert os.stat(base + b"/etc/su").st_mode & 0o7777 == 0o755
    assert (
        "1 had the set-user-id or set-group-id bit, which is not set here: /etc/su" in done.stderr
    )
    script = owners.read_bytes()
    assert b"chown -h 33:33 -- ./settings/etc/here" in script
    assert b"chmod 4755 -- ./settings/etc/su" in script
    if os.geteuid() == 0:
        assert (told.st_uid, folder.st_gid) == (33, 4)
    subprocess.run(["sh", "-n", str(owners)], check=True)


async def test_one_document_that_cannot_be_written_ends_no_other(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    long = "/etc/" + "n" * 300
    twice = Document(path="/etc/b", type="file", mode=0o600)
    inside_a_file = Document(path="/etc/b/c", type="file", mode=0o600)
    await held(
        vault,
        *in_order(
            Document(path=long, type="file"), twice, inside_a_file, Document(path="/z", type="file")
        ),
    )
    done = rescue(store_folder, "extract", "first", str(tmp_path / "out"))
    assert done.returncode == 1
    assert "Traceback" not in done.stderr
    assert "not extracted" in done.stderr
    assert "2 of 4 documents" in done.stderr
    assert (tmp_path / "out/settings/z").read_bytes() == b"x\n"


@pytest.mark.parametrize("name", ["../../outside", "..", "/etc", "a/b"])
async def test_a_forged_name_of_a_part_stays_below_the_target(
    vault: Vault, store_folder: Path, tmp_path: Path, name: str
) -> None:
    await held(vault, Document(path="/p", type="file"), part_name=name)
    done = rescue(store_folder, "extract", "first", str(tmp_path / "deep/out"))
    assert "Traceback" not in done.stderr
    found = [path.relative_to(tmp_path).parts[:2] for path in tmp_path.rglob("p") if path.is_file()]
    assert all(parts == ("deep", "out") for parts in found)
    assert not (tmp_path / "outside").exists()


async def test_what_speaks_against_a_backup_is_shown(vault: Vault, store_folder: Path) -> None:
    backup = await held(
        vault, Document(path="/p", type="file"), name="odd", purpose="safety", partial=True
    )
    record = await vault.find_record(backup)
    note = notes.Note(
        fact="doubtful",
        backup=backup,
        system=SYSTEM,
        time="20260302T130000Z",
        by="x",
        reason="a wrong\x1b",
    )
    await vault.write_note(note, record.reference)
    listed = rescue(store_folder, "list")
    assert "doubtful, partial, a safety copy" in listed.stdout
    steps = rescue(store_folder, "steps", backup)
    assert "Note: this backup is doubtful: a wrong\\x1b." in steps.stderr
    assert "\x1b" not in listed.stdout + steps.stderr


async def test_a_header_of_a_sibling_store_hides_nothing(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    (tmp_path / "other").mkdir()
    other = await make_vault(tmp_path / "other")
    for path in (tmp_path / "other/header").iterdir():
        shutil.copy(path, store_folder / "header")
    done = rescue(store_folder, "check")
    assert done.returncode == 1, done.stderr
    assert "1 backup with 2 documents" in done.stderr, done.stderr
    assert f"belongs to the store {other.id}, and this one is {vault.id}" in done.stderr


async def test_a_header_that_was_changed_is_told_from_a_wrong_passphrase(
    vault: Vault, store_folder: Path
) -> None:
    [path] = (store_folder / "header").iterdir()
    header = json.loads(path.read_bytes())
    path.write_text(json.dumps({**header, "sweeper": "f" * 32}))
    done = rescue(store_folder, "list")
    assert done.returncode == 1
    assert "The passphrase is right, and no header of the store is whole" in done.stderr
    assert rescue(store_folder, "list", passphrase="another").returncode == 4


async def test_who_reads_only_the_beginning_and_what_is_not_found(
    vault: Vault, store_folder: Path
) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    phrase = store_folder.parent / "phrase.txt"
    phrase.write_text(PASSPHRASE)
    words = [
        DEBIAN_PYTHON,
        "-I",
        str(store_folder / "rescue.py"),
        "list",
        str(store_folder),
        "--passphrase-file",
        phrase,
    ]
    with subprocess.Popen(
        [str(word) for word in words], stdout=subprocess.PIPE, stderr=subprocess.PIPE
    ) as program:
        assert program.stdout is not None
        program.stdout.close()
        assert program.stderr is not None
        assert b"Traceback" not in program.stderr.read()
    assert rescue(store_folder, "steps", "").returncode == 3
    assert (
        rescue(
            store_folder, "extract", "first", str(store_folder.parent / "o"), "--part", "nothing"
        ).returncode
        == 3
    )
    assert rescue(store_folder, "extract", "first", "/proc/nothing/o").returncode == 1


async def test_documents_are_found_by_path_and_content_in_every_backup(
    vault: Vault, store_folder: Path
) -> None:
    index = PackIndex()
    first, _ = await store_backup(
        vault, index, {"/etc/hosts": b"a\n10.1.2.3 quay\n", "/etc/motd": b"ten\n"}, name="first"
    )
    vault.now = lambda: fixed_now().replace(day=9)
    second, _ = await store_backup(
        vault, index, {"/etc/motd": b"10.1.2.3"}, name="second", sequence=2
    )
    found = rescue(store_folder, "search", "10.1.2.3")
    assert found.returncode == 0, found.stderr
    assert [line.split()[0] for line in found.stdout.splitlines()] == [first[:12], second[:12]]
    assert "/etc/hosts  line 2" in found.stdout
    assert "2 documents in 2 of 2 backups." in found.stderr
    assert len(rescue(store_folder, "search", "/etc/m*").stdout.splitlines()) == 2
    nothing = rescue(store_folder, "search", "three grey boats")
    assert nothing.returncode == 3
    assert "0 documents in 0 of 2" in nothing.stderr
    assert rescue(store_folder, "search", "").returncode == 2


KIND = """
title = "Tide gauge"
[settings.restart]
title = "How it is started again"
default = "systemctl restart 'tide gauge'"
[settings.web-password]
title = "Of its page"
default = "three grey boats"
[[restore.prepare]]
title = "Have missing packages installed"
do = "gate"
ask = "Install them: {names}"
each = { names = "missing", list = "packages" }
[[restore.write]]
title = "Put back the settings"
do = "write"
parts = ["settings"]
owners = "numbers"
[[restore.write]]
title = "Put back what was not taken"
do = "write"
parts = ["other"]
[[restore.finish]]
title = "Start it again"
do = "command"
run = ["sh", "-c", "{restart}"]
[[restore.finish]]
title = "Open its page"
do = "request"
request = { method = "PUT", path = "/page/{name}", json = { password = "{web-password}" } }
[[restore.check]]
title = "It answers"
do = "check"
run = ["tide", "--of", "{name} x"]
expect = "ok"
"""


async def test_the_steps_are_a_plan_with_the_values_of_the_backup(
    vault: Vault, store_folder: Path
) -> None:
    packages = [f"package-{number}" for number in range(90)]
    document = Document(path="/etc/tide", type="file", mode=0o600)
    backup = await held(vault, document, kind_text=KIND, census={"packages": packages})
    done = rescue(store_folder, "steps", backup[:8])
    assert done.returncode == 0, done.stderr
    plan = [line.strip() for line in done.stdout.splitlines()]
    assert f"python3 rescue.py extract {store_folder} {backup[:12]} restored" in plan
    assert "1. Have missing packages installed" in plan
    assert any(line.endswith("package-39 and 50 more (steps --names packages)") for line in plan)
    [put_back] = [
        line for line in plan if line.startswith("tar -C restored/settings --numeric-owner -cf - .")
    ]
    assert "--no-overwrite-dir" in put_back, "the folder / keeps its mode"
    assert "Put back what was not taken" not in done.stdout
    run = next(line for line in plan if line.startswith("ssh $TARGET") and "restart" in line)
    assert shlex.split(run)[2] == "systemctl restart 'tide gauge'"
    assert next(line for line in plan if line.startswith("curl")).count("<web-password>") == 1
    assert "three grey boats" not in done.stdout
    assert (
        shlex.split(next(line for line in plan if "tide --of" in line))[2] == "tide --of 'NAME x'"
    )
    names = rescue(store_folder, "steps", backup, "--names", "packages")
    assert names.stdout.split() == packages
    assert rescue(store_folder, "steps", backup, "--names", "boats").returncode == 3
