"""A first kind file for a real package, checked and tried as a newcomer does."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from fennox.wire.machines.enrolling import NewSystem
from fennox.wire.stores import NewLogin
from saltmere.linux import LinuxServer
from tests.engine.conftest import install
from tests.service.running import Service

__all__ = ["install"]


def bring(server: LinuxServer, package: str) -> None:
    """Installed as it is on this machine."""
    own = Path("/var/lib/dpkg")
    for path in (own / "info").glob(f"{package}.*"):
        server.write(f"/var/lib/dpkg/info/{path.name}", path.read_text())
    stanzas = (own / "status").read_text().split("\n\n")
    [stanza] = [one for one in stanzas if one.startswith(f"Package: {package}\n")]
    server.append("/var/lib/dpkg/status", f"\n{stanza}\n\n")
    for line in (own / "info" / f"{package}.conffiles").read_text().splitlines():
        if line.startswith("/etc/"):
            server.write(line, f"# of {package}\n")


def test_a_package_becomes_a_kind_that_can_be_tried(
    service: Service, install: Callable[..., LinuxServer], key_pair: tuple[str, str]
) -> None:
    if shutil.which("vsftpd", path="/usr/sbin") is None:
        pytest.skip("SKIPPED: vsftpd is not installed, so no kind is drafted of a real package")
    server = install("harbour-ftp")
    bring(server, "vsftpd")
    (server.folder / "etc/vsftpd.conf").chmod(0o600)
    service.file("root-key", key_pair[0])
    with service.proved() as client:
        client.add_login(NewLogin(name="root", account="root", private_key=key_pair[0]))
        where = f"{server.host}:{server.port}"
        system = {"name": "harbour-ftp", "kind": "linux-server", "address": where, "login": "root"}
        client.add_system(NewSystem.model_validate({**system, "key": server.host_key}))
    words = ["kind", "draft", "--package", "vsftpd", "--on", "harbour-ftp"]
    printed = service.fennox(*words)
    assert printed.returncode == 0, printed.stderr
    written = service.fennox(*words, "--to", "vsftpd.toml")
    assert written.returncode == 0, written.stderr
    assert (service.folder / "vsftpd.toml").read_text() == printed.stdout
    again = service.fennox(*words, "--to", "vsftpd.toml")
    assert again.returncode == 2
    assert "it is there already" in again.stderr
    assert "No mistake" in service.fennox("kind", "check", "vsftpd.toml").stderr
    how = ["--on", where, "--account", "root", "--key", "root-key", "--accept-key", server.host_key]
    tried = service.fennox("kind", "try", "vsftpd.toml", *how, "--part", "vsftpd", "--documents")
    assert tried.returncode == 0, tried.stderr
    assert "/etc/vsftpd.conf (secret)" in tried.stdout
    for package, said, code in (
        ("tide-gauge", "is not installed", 3),
        ("x;reboot", "is no name", 2),
    ):
        refused = service.fennox("kind", "draft", "--package", package, "--on", "harbour-ftp")
        assert refused.returncode == code
        assert said in refused.stderr
