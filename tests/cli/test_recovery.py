"""The recovery sheet and the kit, as they are used: on a machine with nothing but the medium and a
passphrase.
"""

from __future__ import annotations

import hashlib
import shutil
import stat
import subprocess
import sys
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

import psycopg
import pytest

from fennox.wire.backups import NewTake
from fennox.wire.stores import NewLogin, NewStore
from saltmere.linux import LinuxServer
from tests.engine.rescue.test_rescue import DEBIAN_PYTHON
from tests.service.conftest import enrol
from tests.service.running import PASSPHRASE, Service, came_to, until
from tests.stores import servers
from tests.stores.servers import Place


@pytest.fixture
def depot(tmp_path: Path) -> Iterator[Place]:
    (tmp_path / "depot").mkdir()
    with servers.openssh(tmp_path / "depot") as place:
        yield place


@pytest.mark.long
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
    assert again.returncode == 2
    assert "not empty" in again.stderr
    text = (kit / "recovery-sheet.txt").read_text()
    assert hashlib.sha256((kit / "rescue.py").read_bytes()).hexdigest() in text
    assert str(came_to(run, "backup")) in text
    for secret in (PASSPHRASE, key_pair[0].splitlines()[1]):
        assert all(
            secret.encode() not in path.read_bytes() for path in kit.rglob("*") if path.is_file()
        )
    assert (
        subprocess.run(
            ["sha256sum", "-c", "--quiet", "SHA256SUMS"], cwd=kit, check=False
        ).returncode
        == 0
    )
    service.stop()
    lost = tmp_path / "lost"
    shutil.copytree(service.folder / "attic", lost)
    shutil.rmtree(lost / "header")
    shutil.copytree(kit / "attic/header", lost / "header")
    phrase = service.file("pass", PASSPHRASE + "\n")
    words = [
        sys.executable,
        "-S",
        "-E",
        str(kit / "rescue.py"),
        "list",
        str(lost),
        "--passphrase-file",
        phrase,
    ]
    bare = [sys.executable, "-c", _BARE, str(kit / "packages"), *words[3:]]
    listed = subprocess.run(bare, capture_output=True, text=True, check=False)
    assert listed.returncode == 0, listed.stderr
    assert str(came_to(run, "backup"))[:8] in listed.stdout


def alone(*words: str | Path, folder: Path) -> subprocess.CompletedProcess[str]:
    """Run in a network that has nothing but loopback, by the interpreter without what is installed
    beside it.
    """
    base = Path(sys.base_prefix) / "bin"
    clean = {
        "PATH": f"{base}:/usr/bin:/bin:/usr/sbin:/sbin",
        "HOME": str(folder),
        "LANG": "C.UTF-8",
    }
    inside = [
        "unshare",
        "--net",
        "sh",
        "-c",
        'ip link set lo up && exec "$@"',
        "sh",
        *map(str, words),
    ]
    return subprocess.run(
        inside, capture_output=True, text=True, check=False, env=clean, cwd=folder
    )


@pytest.mark.long
def test_the_kit_alone_brings_the_service_back_where_there_is_no_network(
    service: Service,
    server: LinuxServer,
    key_pair: tuple[str, str],
    second_database: str,
    tmp_path: Path,
) -> None:
    enrol(service, server, key_pair[0])
    kept = service.fennox("own-state", "keep", "attic", "--on-this-machine")
    assert kept.returncode == 0, kept.stderr
    with service.client() as client:
        until(lambda: client.own_state().newest is not None, "the own state was taken")
    kit = tmp_path / "kit"
    assert service.fennox("recovery-sheet", "--kit", str(kit)).returncode == 0
    service.stop()
    shutil.rmtree(service.folder / "state")
    away = alone(
        "python3",
        "-c",
        "import socket; socket.create_connection(('192.0.2.7', 80), 3)",
        folder=tmp_path,
    )
    assert "unreachable" in away.stderr, "nothing but loopback"
    phrase = service.folder / service.file("pass", PASSPHRASE + "\n")
    listed = alone(
        kit / "reader",
        "list",
        service.folder / "attic",
        "--passphrase-file",
        phrase,
        folder=tmp_path,
    )
    assert listed.returncode == 0, listed.stderr
    assert "web-9" in listed.stdout or "fennox" in listed.stdout, listed.stderr
    told = alone(
        kit / "fennox",
        "rebuild",
        "attic",
        "--kit",
        kit,
        "--database",
        second_database,
        "--state",
        tmp_path / "anew",
        "--passphrase-file",
        phrase,
        "--yes",
        folder=tmp_path,
    )
    assert told.returncode == 0, told.stderr
    assert "2  systems" in told.stdout
    with psycopg.connect(second_database.replace("+psycopg", "")) as connection:
        assert connection.execute(
            "select count(*) from systems where name = 'web-9'"
        ).fetchone() == (1,)
    unknown = alone(
        kit / "fennox",
        "rebuild",
        "pier",
        "--kit",
        kit,
        "--database",
        second_database,
        "--state",
        tmp_path / "anew",
        "--passphrase-file",
        phrase,
        folder=tmp_path,
    )
    assert "It has: attic." in unknown.stderr


def test_the_login_of_a_far_store_is_on_the_sheet_and_only_the_passphrase_opens_it(
    service: Service, depot: Place, tmp_path: Path
) -> None:
    account, private = depot.credential.account, depot.credential.private_key or ""
    with service.client() as client:
        client.add_login(NewLogin(name="depot", account=account, private_key=private))
        client.add_store(
            NewStore(
                name="depot", address=depot.url, login="depot", key=depot.key, passphrase=PASSPHRASE
            )
        )
    sheet = service.fennox("recovery-sheet", "--json")
    (tmp_path / "sheet.json").write_text(sheet.stdout)
    assert private.splitlines()[1] not in sheet.stdout
    shutil.copyfile(str(files("fennox").joinpath("rescue.py")), service.folder / "reader.py")
    phrase, wrong = tmp_path / "phrase", tmp_path / "wrong"
    phrase.write_text(PASSPHRASE)
    wrong.write_text("no such words here")
    words = [
        DEBIAN_PYTHON,
        "-I",
        str(service.folder / "reader.py"),
        "login",
        str(tmp_path / "sheet.json"),
        "depot",
        str(tmp_path / "key"),
    ]
    refused = subprocess.run(
        [*words, "--passphrase-file", str(wrong)], capture_output=True, text=True, check=False
    )
    assert (refused.returncode, (tmp_path / "key").exists()) == (4, False)
    done = subprocess.run(
        [*words, "--passphrase-file", str(phrase)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "key").read_text() == private
    assert stat.S_IMODE((tmp_path / "key").stat().st_mode) == 0o600
    listed = service.fennox(
        "rescue",
        "list",
        depot.url,
        "--account",
        account,
        "--key",
        str(tmp_path / "key"),
        "--accept-key",
        depot.key or "",
        "--passphrase-file",
        str(phrase),
    )
    assert listed.returncode == 0, listed.stderr


def test_the_sheet_tells_in_which_order_systems_come_back_and_what_they_are(
    service: Service, server: LinuxServer, key_pair: tuple[str, str]
) -> None:
    enrol(service, server, key_pair[0])
    with service.client() as client:
        service.ended(client.take(NewTake(system="web-9")).id)
        made = client.recovery_sheet()
    assert made.waves == [["web-9"]]
    [system] = made.systems
    assert system.product.startswith("debian")
    text = service.fennox("recovery-sheet").stdout
    assert "IN WHICH ORDER SYSTEMS COME BACK\n  1. web-9" in text
    assert system.product in text


_BARE = """import sys, runpy
sys.path = [path for path in sys.path if "site-packages" not in path]
sys.path.insert(0, sys.argv.pop(1))
del sys.argv[0]
runpy.run_path(sys.argv[0], run_name="__main__")
"""


def test_the_sheet_is_text_and_a_page_that_fetches_nothing(service: Service) -> None:
    (service.folder / "attic").mkdir()
    with service.client() as client:
        client.add_store(
            NewStore(name="attic", address=str(service.folder / "attic"), passphrase=PASSPHRASE)
        )
    text = service.fennox("recovery-sheet")
    assert "STORE attic" in text.stdout
    assert "passphrase  first, since" in text.stdout
    page = service.fennox("recovery-sheet", "--html").stdout
    assert "<h2>Store attic</h2>" in page
    assert not [word for word in ("<script", "src=", "href=", "@import", "url(") if word in page]
