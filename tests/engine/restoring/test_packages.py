"""Packages that the target lacks are installed by its own package manager, from a repository of
its own, in the version of the backup where that is to be had.
"""

from __future__ import annotations

import gzip
import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from fennox.engine.backups.vault import Vault
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_linux_server import place_of
from tests.places import free_port, loopback

pytestmark = pytest.mark.skipif(
    shutil.which("dpkg-scanpackages") is None or os.getuid() != 0,
    reason=(
        "SKIPPED: dpkg-dev is not installed, or who runs this is not root; that packages are"
        " installed is not proved"
    ),
)


def package(folder: Path, name: str, version: str) -> None:
    """A small package that says of itself which version it is."""
    tree = folder / f"tree-{name}-{version}"
    (tree / "DEBIAN").mkdir(parents=True)
    (tree / "DEBIAN/control").write_text(
        f"Package: {name}\nVersion: {version}\nArchitecture: all\n"
        f"Maintainer: Saltmere Ferries <it@saltmere.example>\nDescription: {name}\n"
    )
    share = tree / "usr/share/saltmere"
    share.mkdir(parents=True)
    (share / name).write_text(f"{version}\n")
    subprocess.run(["dpkg-deb", "--root-owner-group", "-b", tree, folder], check=True)
    shutil.rmtree(tree)


@pytest.fixture
def repository(tmp_path: Path) -> Path:
    """A Debian repository: two versions of one package, one of another, none of a third."""
    folder = tmp_path / "packages"
    folder.mkdir()
    for name, version in (("tide-tables", "1.4"), ("tide-tables", "2.0"), ("fog-horn", "0.9")):
        package(folder, name, version)
    listed = subprocess.run(
        ["dpkg-scanpackages", "-m", "."], cwd=folder, capture_output=True, check=True
    )
    (folder / "Packages.gz").write_bytes(gzip.compress(listed.stdout))
    return folder


def status(**versions: str) -> str:
    fixed = {"base-files": "1.10", "bash": "1.4", "dpkg": "1.4"}
    return "".join(
        f"Package: {name}\nStatus: install ok installed\nArchitecture: all\nVersion: {version}\n"
        f"Maintainer: Saltmere Ferries <it@saltmere.example>\nDescription: {name}\n\n"
        for name, version in {**fixed, **versions}.items()
    )


@pytest.fixture
def fresh(tmp_path: Path, key_pair: tuple[str, str], repository: Path) -> LinuxServer:
    """A target whose package manager works, on a layer of its own."""
    host = loopback()
    made = LinuxServer(tmp_path / "fresh", host, free_port(host), installs=True)
    made.install("debian", key_pair[1])
    made.write("/var/lib/dpkg/status", status())
    for folder in ("info", "updates", "triggers", "parts"):
        (made.folder / "var/lib/dpkg" / folder).mkdir(exist_ok=True)
    for folder in ("var/lib/apt/lists/partial", "var/cache/apt/archives/partial", "var/log/apt"):
        (made.folder / folder).mkdir(parents=True)
    (made.folder / "etc/apt").mkdir()
    shutil.copytree(repository, made.folder / "srv/packages")
    made.write("/etc/apt/sources.list", "deb [trusted=yes] file:/srv/packages ./\n")
    made.write("/etc/apt/apt.conf", 'APT::Sandbox::User "root";\n')
    return made


async def test_what_is_missing_is_installed_and_what_is_not_to_be_had_is_asked_for(
    vault: Vault,
    install: Callable[..., LinuxServer],
    key_pair: tuple[str, str],
    fresh: LinuxServer,
) -> None:
    server = install("web-9")
    versions = {"tide-tables": "1.4", "fog-horn": "0.8", "harbour-bell": "3.1"}
    server.write("/var/lib/dpkg/status", status(**versions))
    login = Credential("root", private_key=key_pair[0])
    settings = {"ssh-restart": SSH_RESTART}
    keeper = Keeper(vault, "linux-server", place_of(server), login, settings)
    taken = await keeper.take()
    server.lose()
    fresh.start()
    try:
        sheet = await keeper.draft(taken, place_of(fresh), login, purpose="replace")
        assert sheet.blockers() == []
        await keeper.restore(sheet, taken)
        gate = sheet.open_gate()
        assert gate is not None
        assert "harbour-bell" in gate.question
        there = fresh.run("dpkg-query", "-W", "-f", "${Package} ${Version}\n").split("\n")
        assert "tide-tables 1.4" in there, "the version of the backup"
        assert "fog-horn 0.9" in there, "another one, as that of the backup is not to be had"
        assert fresh.run("cat", "/usr/share/saltmere/tide-tables") == "1.4\n"
        assert not Path("/usr/share/saltmere").exists(), "nothing of this machine has changed"
        fresh.write(
            "/var/lib/dpkg/status",
            fresh.read("/var/lib/dpkg/status")
            + status(**{"harbour-bell": "3.1"}).split("\n\n")[-2]
            + "\n\n",
        )
        keeper.answer(sheet, "done")
        await keeper.restore(sheet, taken)
        assert sheet.state == "proved", sheet.proof
    finally:
        fresh.stop()
