"""The recovery sheet and the kit, as they are used: on a machine with nothing but the medium and a passphrase."""

from __future__ import annotations

import hashlib
import shutil
import subprocess
import sys
from pathlib import Path

from fennox.wire.backups import NewTake
from fennox.wire.stores import NewStore
from saltmere.linux import LinuxServer
from tests.database import database, postgres
from tests.engine.conftest import install, key_pair
from tests.service.conftest import enrol, server, service
from tests.service.running import PASSPHRASE, Service

__all__ = ["database", "install", "key_pair", "postgres", "server", "service"]


def test_the_kit_alone_opens_a_store_that_lost_its_header(
    service: Service, server: LinuxServer, key_pair: tuple[str, str], tmp_path: Path
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        run = service.ended(client.take(NewTake(system="web-9")).id)
    kit = tmp_path / "kit"
    made = service.fennox("recovery-sheet", "--kit", str(kit))
    assert made.returncode == 0, made.stderr
    again = service.fennox("recovery-sheet", "--kit", str(kit))
    assert (again.returncode, "not empty" in again.stderr) == (2, True)
    text = (kit / "recovery-sheet.txt").read_text()
    assert hashlib.sha256((kit / "rescue.py").read_bytes()).hexdigest() in text
    assert str(run.result["backup"]) in text
    for secret in (PASSPHRASE, key_pair[0].splitlines()[1]):
        assert all(secret.encode() not in path.read_bytes() for path in kit.rglob("*") if path.is_file())
    assert subprocess.run(["sha256sum", "-c", "--quiet", "SHA256SUMS"], cwd=kit, check=False).returncode == 0
    service.stop()
    lost = tmp_path / "lost"
    shutil.copytree(service.folder / "attic", lost)
    shutil.rmtree(lost / "header")
    shutil.copytree(kit / "attic/header", lost / "header")
    phrase = service.file("pass", PASSPHRASE + "\n")
    words = [sys.executable, "-S", "-E", str(kit / "rescue.py"), "list", str(lost), "--passphrase-file", phrase]
    bare = [sys.executable, "-c", _BARE, str(kit / "packages"), *words[3:]]
    listed = subprocess.run(bare, capture_output=True, text=True, check=False)
    assert listed.returncode == 0, listed.stderr
    assert str(run.result["backup"])[:8] in listed.stdout


_BARE = """import sys, runpy
sys.path = [path for path in sys.path if "site-packages" not in path]
sys.path.insert(0, sys.argv.pop(1))
del sys.argv[0]
runpy.run_path(sys.argv[0], run_name="__main__")
"""


def test_the_sheet_is_text_and_a_page_that_fetches_nothing(service: Service) -> None:
    (service.folder / "attic").mkdir()
    with service.client() as client:
        client.add_store(NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE))
    text = service.fennox("recovery-sheet")
    assert "STORE attic" in text.stdout
    assert "passphrase  first, since" in text.stdout
    page = service.fennox("recovery-sheet", "--html").stdout
    assert "<h2>Store attic</h2>" in page
    assert not [word for word in ("<script", "src=", "href=", "@import", "url(") if word in page]
