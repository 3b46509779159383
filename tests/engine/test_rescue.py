"""The offline reader, run as a person would: Debian's own Python and packages, a copy of the store, a passphrase."""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path

from fennox.engine.index import PackIndex
from fennox.engine.vault import Vault
from tests.backups import store_backup
from tests.conftest import PASSPHRASE

DEBIAN_PYTHON = "/usr/bin/python3"
DOCUMENTS = {"/etc/hosts": b"127.0.0.1 localhost\n", "/etc/ferry.conf": os.urandom(300_000)}


def rescue(folder: Path, *arguments: str, passphrase: str = PASSPHRASE) -> subprocess.CompletedProcess[str]:
    phrase = folder.parent / "phrase.txt"
    phrase.write_text(passphrase + "\n")
    command = [DEBIAN_PYTHON, "-I", str(folder / "rescue.py"), arguments[0], str(folder), *arguments[1:]]
    return subprocess.run(
        [*command, "--passphrase-file", str(phrase)], capture_output=True, text=True, check=False, timeout=300
    )


async def test_list_check_and_extract_without_fennox(vault: Vault, store_folder: Path, tmp_path: Path) -> None:
    backup, _ = await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    listed = rescue(store_folder, "list")
    assert listed.returncode == 0, listed.stderr
    assert backup[:12] in listed.stdout
    assert "web-9" in listed.stdout
    checked = rescue(store_folder, "check")
    assert (checked.returncode, "1 backups with 2 documents" in checked.stderr) == (0, True)
    out = tmp_path / "out"
    extracted = rescue(store_folder, "extract", "first", str(out))
    assert extracted.returncode == 0, extracted.stderr
    assert (out / "settings/etc/hosts").read_bytes() == DOCUMENTS["/etc/hosts"]
    assert (out / "settings/etc/ferry.conf").read_bytes() == DOCUMENTS["/etc/ferry.conf"]
    assert (out / "settings/etc/hosts").stat().st_mode & 0o777 == 0o640
    assert len(json.loads((out / "DOCUMENTS.json").read_text())["documents"]) == 2


async def test_patterns_take_out_single_documents(vault: Vault, store_folder: Path, tmp_path: Path) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    out = tmp_path / "out"
    done = rescue(store_folder, "extract", "first", str(out), "--document", "/etc/*.conf", "--document", "/nothing")
    assert (done.returncode, "1 of 1 documents" in done.stderr) == (0, True)
    assert [path.name for path in out.rglob("*") if path.is_file()] == ["DOCUMENTS.json", "ferry.conf"]
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
    assert (wrong.returncode, "opens none" in wrong.stderr, wrong.stdout) == (4, True, "")
    for path in (store_folder / "header").iterdir():
        path.unlink()
    assert "holds no store" in rescue(store_folder, "list").stderr


async def test_extract_does_not_write_into_a_folder_that_holds_something(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    await store_backup(vault, PackIndex(), DOCUMENTS, name="first")
    (tmp_path / "out").mkdir()
    (tmp_path / "out/mine").write_text("mine")
    refused = rescue(store_folder, "extract", "first", str(tmp_path / "out"))
    assert (refused.returncode, sorted(p.name for p in (tmp_path / "out").iterdir())) == (2, ["mine"])


async def test_a_document_with_a_hostile_path_stays_below_the_target(
    vault: Vault, store_folder: Path, tmp_path: Path
) -> None:
    await store_backup(vault, PackIndex(), {"/../../../escaped": b"x"}, name="bad")
    rescue(store_folder, "extract", "bad", str(tmp_path / "deep/out"))
    assert not (tmp_path / "escaped").exists()
    assert (tmp_path / "deep/out/settings/escaped").read_bytes() == b"x"
