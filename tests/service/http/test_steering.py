"""What a machine says of itself never steers the terminal of whoever reads it."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

import pytest

from fennox.cli.parser import build
from fennox.wire.backups import NewTake
from saltmere.linux import LinuxServer
from tests.service.conftest import enrol
from tests.service.running import Service, came_to

STEERING = "\x1b]0;gone\x07\x1b[2J\u202e9-bew\x9b31m"
NAME = f"web-9{STEERING}"


def steers(said: str) -> set[str]:
    return {
        character for character in said if not character.isprintable() and character not in "\n\t"
    }


@pytest.fixture
def odd(service: Service, server: LinuxServer, key_pair: tuple[str, str]) -> str:
    """A machine whose own name, files and messages hold what steers a terminal; the id of a backup
    of it.
    """
    server.write("/etc/hostname", NAME + "\n")
    release = server.folder / "usr/lib/os-release"
    text = release.read_text() if release.exists() else ""
    (server.folder / "etc/os-release").unlink()
    server.write("/etc/os-release", text + f'VERSION_ID="12{STEERING}"\nID=debian\n')
    server.write(f"/etc/{STEERING.replace('/', '')}", "x\n")
    server.write("/etc/motd", f"Boats sail at eight.{STEERING}\n")
    enrol(service, server, key_pair[0])
    with service.client() as client:
        run = service.ended(client.take(NewTake(system="web-9", note=f"before{STEERING}")).id)
        assert run.state == "done", run.reason
        server.write("/etc/motd", f"Boats sail at nine.{STEERING}\n")
        service.ended(client.take(NewTake(system="web-9")).id)
        assert "\x1b" in client.probe("web-9").model_dump_json().encode().decode(
            "unicode_escape"
        ), "it says so"
        return str(came_to(run, "backup"))


def test_no_command_sends_to_a_terminal_what_a_machine_says(
    service: Service, server: LinuxServer, odd: str
) -> None:
    at = f"{server.host}:{server.port}"
    commands = [
        ["status"],
        ["system", "list"],
        ["system", "show", "web-9"],
        ["system", "probe", "web-9"],
        [
            "system",
            "look",
            at,
            "--login",
            "quay-root",
            "--accept-key",
            server.host_key,
            "--kind",
            "linux-server",
        ],
        ["backup", "list"],
        ["backup", "show", odd],
        ["backup", "take", "web-9"],
        ["backup", "compare", "--system", "web-9"],
        ["backup", "compare", "--system", "web-9", "--live"],
        ["trace", "web-9", "/etc/motd"],
        ["run", "list"],
        ["concern", "list"],
        ["audit", "list"],
        ["restore", "draft", odd, "--repair"],
        ["restore", "list"],
        ["backup", "take", STEERING],
        ["system", "show", STEERING],
    ]
    said = ""
    for words in commands:
        told = service.fennox(*words)
        assert "Traceback" not in told.stderr, (words, told.stderr)
        assert steers(told.stdout + told.stderr) == set(), words
        said += told.stdout + told.stderr
    assert r"web-9\x1b]0;gone\x07" in said, "it is shown"
    with service.client() as client:
        sheet = client.restores()[0].id
    assert steers(service.fennox("restore", "show", sheet).stdout) == set()
    for run in ("take", "draft"):
        with service.client() as client:
            [newest, *_] = client.runs(kind=run)
        assert steers(service.fennox("run", "show", newest.id).stdout) == set()
    assert "\x1b" not in service.log


_NOT_ENDING = {"serve", "worker run", "run follow"}
_SIGNING_OUT = {"sign-out"}


def commands(
    parser: argparse.ArgumentParser, *words: str
) -> Iterator[tuple[list[str], argparse.ArgumentParser]]:
    nouns = [action for action in parser._actions if isinstance(action, argparse._SubParsersAction)]
    if not nouns:
        yield list(words), parser
    for name, inner in (pair for noun in nouns for pair in noun.choices.items()):
        yield from commands(inner, *words, name)


def typed(action: argparse.Action) -> list[str]:
    """A value for an argument that steers, if its values are not few."""
    value = (
        str(next(iter(action.choices)))
        if action.choices
        else "7"
        if action.type is int
        else f"web-9{STEERING}\nx"
    )
    return [action.option_strings[0], value] if action.option_strings else [value]


@pytest.mark.long
def test_nothing_that_is_typed_steers_a_terminal_in_any_command(service: Service) -> None:
    wrong: list[object] = []
    tried = 0
    for words, parser in commands(build()):
        if " ".join(words) in _NOT_ENDING | _SIGNING_OUT:
            continue
        takes = [action for action in parser._actions if action.nargs != 0]
        few = [action for action in takes if action.required]
        for given in [few, takes] if few != takes else [few]:
            told = service.fennox(*words, *(word for action in given for word in typed(action)))
            if "Traceback" in told.stderr or steers(told.stdout + told.stderr):
                wrong.append((words, told.stderr[-600:]))
            tried += 1
    assert not wrong, "\n".join(map(str, wrong))
    assert tried > 170
