"""`kind try --restore` refuses what would harm, and says what stands in its way."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from saltmere.linux import LinuxServer
from tests.engine.conftest import install, key_pair
from tests.engine.keeper import shipped_text
from tests.places import free_port, loopback
from tests.service.running import Service

__all__ = ["install", "key_pair"]

Install = Callable[..., LinuxServer]
Rehearse = Callable[..., tuple[int, str]]


def at(server: LinuxServer) -> str:
    return f"{server.host}:{server.port}"


@pytest.fixture
def rehearse(tmp_path: object, key_pair: tuple[str, str]) -> Rehearse:
    """The command, without any service; its code, and what it said."""
    host = loopback()
    made = Service(tmp_path, "", host, free_port(host))  # type: ignore[arg-type]
    made.file("key", key_pair[0])
    made.file("server.toml", shipped_text("linux-server"))

    def run(*words: str) -> tuple[int, str]:
        done = made.fennox(
            "kind", "try", "server.toml", "--account", "root", "--key", "key", *words
        )
        return done.returncode, done.stdout + done.stderr

    return run


def test_a_machine_is_never_practised_upon_itself(install: Install, rehearse: Rehearse) -> None:
    web = install("web-9")
    machine = ["--on", at(web), "--accept-key", web.host_key, "--restore"]
    code, said = rehearse(*machine, "--onto", at(web), "--accept-onto-key", web.host_key)
    assert (code, "is the machine that is read" in said) == (2, True)
    code, said = rehearse(*machine)
    assert (code, "The spare is missing" in said) == (2, True)
    code, said = rehearse("--on", at(web), "--accept-key", web.host_key, "--onto", at(web))
    assert (code, "Give both, or none" in said) == (2, True)


def test_nothing_is_written_before_somebody_says_the_spares_address(
    install: Install, rehearse: Rehearse
) -> None:
    web, spare = install("web-9"), install("spare")
    web.configure("ticket", files=3)
    machine = ["--on", at(web), "--accept-key", web.host_key, "--restore", "--onto", at(spare)]
    code, said = rehearse(*machine)
    assert (code, spare.host_key in said, "--accept-onto-key" in said) == (5, True, True)
    known = [*machine, "--accept-onto-key", spare.host_key]
    code, said = rehearse(*known)
    assert (code, "Nobody can be asked here whether" in said) == (5, True)
    assert "Put back the configuration tree" in said, "the sheet is shown first"
    code, said = rehearse(*known, "--yes", "spare")
    assert (code, "'spare' is not" in said) == (5, True)
    assert not (spare.folder / "etc/saltmere").exists()
    assert spare.host_key != web.host_key
