"""The command line as a user runs it: arguments in, text and exit code out."""

from __future__ import annotations

import argparse
import importlib
import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from fennox import wire
from fennox.cli.parser import build
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair
from tests.places import free_port
from tests.service.running import PASSPHRASE, PASSWORD, Service

Install = Callable[..., LinuxServer]
Pair = tuple[str, str]


@pytest.fixture
def ready(service: Service, server: LinuxServer, key_pair: Pair) -> Service:
    """A store, a login and a system, made from the command line."""
    (service.folder / "attic").mkdir()
    service.file("p.txt", PASSPHRASE + "\nsecond line\n")
    service.file("id", key_pair[0])
    ok(service, "store", "add", "attic", "attic", "--passphrase-file", "p.txt")
    ok(service, "login", "add", "quay-root", "--account", "root", "--key", "id")
    ok(
        service,
        "system",
        "add",
        "web-9",
        "linux-server",
        f"{server.host}:{server.port}",
        "--login",
        "quay-root",
        "--accept-key",
        server.host_key,
        "--setting",
        f"ssh-restart={SSH_RESTART}",
    )
    return service


def ok(service: Service, *words: str) -> subprocess.CompletedProcess[str]:
    done = service.fennox(*words)
    assert done.returncode == 0, done.stderr
    return done


def fails(service: Service, code: int, said: str, *words: str) -> None:
    done = service.fennox(*words)
    assert done.returncode == code, f"{done.returncode}: {done.stderr} {done.stdout}"
    assert said in done.stderr, f"{done.returncode}: {done.stderr} {done.stdout}"
    assert "Traceback" not in done.stderr


def test_a_command_loads_only_what_it_needs() -> None:
    heavy = (
        "[m for m in ('httpx', 'pydantic', 'rich', 'pygments', 'click', 'fennox.wire.base') if m in"
        " sys.modules]"
    )
    loaded = (
        f"import sys; import fennox.cli.watch.status; print({heavy}); import click;"
        " print(click.__name__)"
    )
    done = subprocess.run(
        [sys.executable, "-c", loaded], capture_output=True, text=True, check=True
    )
    assert done.stdout == "['httpx']\nclick\n"
    assert wire.stores.StoreShown.__module__ == "fennox.wire.stores"
    with pytest.raises(AttributeError, match="no attribute 'nothing'"):
        wire.nothing  # noqa: B018


def test_the_lines_of_the_first_hour(ready: Service, server: LinuxServer, install: Install) -> None:
    assert "The store can be used." in ok(ready, "store", "test", "attic").stdout
    assert "the one that is known" in ok(ready, "system", "probe", "web-9").stdout
    taken = ok(
        ready,
        "backup",
        "take",
        "web-9",
        "--store",
        "attic",
        "--name",
        "first",
        "--note",
        "before anything",
    )
    assert "3 objects with" in taken.stderr
    fails(ready, 1, "has a backup first already", "backup", "take", "web-9", "--name", "first")
    again = ok(ready, "backup", "take", "web-9")
    assert "Unchanged since the last backup: 1 object" in again.stderr
    shown = ok(ready, "backup", "show", "first", "--documents").stdout
    assert "7 accounts" in shown
    assert "/etc/shadow (secret)" in shown
    ok(ready, "backup", "export", "first", "--to", "out.tar.zst")
    listed = subprocess.run(
        ["tar", "--zstd", "-tf", ready.folder / "out.tar.zst"],
        capture_output=True,
        text=True,
        check=True,
    )
    assert "accounts/etc/passwd" in listed.stdout
    ok(
        ready,
        "routine",
        "add",
        "nightly",
        "--systems",
        "kind=linux-server",
        "--when",
        "every day at 02:40",
        "--zone",
        "Europe/Oslo",
        "--store",
        "attic",
        "--ladder",
        "everything for 14 days, always 3",
    )
    assert "2 backups stay, 0 go" in ok(ready, "routine", "preview", "nightly").stderr
    private, public = new_key_pair("fresh")
    fresh = install("debian", public)
    ready.file("fresh", private)
    ok(ready, "login", "add", "fresh-root", "--account", "root", "--key", "fresh")
    server.stop()
    target = ("--replace", "--at", f"{fresh.host}:{fresh.port}", "--login", "fresh-root")
    fails(ready, 5, fresh.host_key, "restore", "draft", "first", *target)
    sheet = ok(
        ready, "restore", "draft", "first", *target, "--accept-key", fresh.host_key, "--quiet"
    ).stdout.strip()
    run = ok(
        ready, "restore", "start", sheet, "--yes", "web-9", "--no-follow", "--quiet"
    ).stdout.strip()
    fails(ready, 5, "nginx-light", "run", "follow", run)
    fresh.set_packages(
        (
            "base-files",
            "bash",
            "coreutils",
            "dpkg",
            "openssh-server",
            "systemd",
            "tar",
            "tzdata",
            "nginx-light",
            "cron",
            "saltmere-ticket",
        )
    )
    ok(ready, "restore", "answer", sheet, "done")
    assert "proved" in ok(ready, "run", "follow", run).stderr
    assert "PROVED" in ok(ready, "restore", "show", sheet).stdout
    fails(ready, 5, "--yes web-9", "restore", "accept", sheet)
    ok(ready, "restore", "accept", sheet, "--yes", "web-9")
    assert f"{fresh.host}:{fresh.port}" in ok(ready, "system", "show", "web-9").stdout
    ready.stop()  # from here on nothing of the service is alive
    rescued = ok(ready, "rescue", "list", "attic", "--passphrase-file", "p.txt").stdout
    assert "before-restore" in rescued
    ok(ready, "rescue", "extract", "attic", "first", "out", "--passphrase-file", "p.txt")
    assert (ready.folder / "out/settings/etc/hostname").read_text() == "web-9\n"
    fails(ready, 6, "does not answer", "status")


def test_json_and_quiet_are_for_programs(ready: Service) -> None:
    ok(ready, "backup", "take", "web-9", "--quiet")
    status = json.loads(ok(ready, "status", "--json").stdout)
    assert (status["systems"], status["estate"][0]["name"]) == (1, "web-9")
    [backup] = ok(ready, "backup", "list", "--quiet").stdout.split()
    assert json.loads(ok(ready, "backup", "show", backup, "--json").stdout)["id"] == backup
    for noun in ("store", "login", "system", "routine", "run", "kind", "audit", "restore"):
        assert isinstance(json.loads(ok(ready, noun, "list", "--json").stdout), list), noun


def test_bad_input_gets_one_sentence_a_remedy_and_the_right_code(
    ready: Service, server: LinuxServer
) -> None:
    address = f"{server.host}:{server.port}"
    with_login = ("--login", "quay-root", "--accept-key", server.host_key)
    fails(
        ready,
        2,
        "There is no kind mainframe",
        "system",
        "add",
        "x",
        "mainframe",
        address,
        *with_login,
    )
    for rate in ("nan", "-1", "fast"):
        fails(ready, 2, f"invalid amount value: '{rate}'", "drop", "set", f"--rate={rate}")
    fails(ready, 2, "10000 bytes a second are too few", "drop", "set", "--rate", "0.01")
    fails(
        ready, 2, "cannot be a name", "system", "add", "a/b", "linux-server", address, *with_login
    )
    fails(ready, 2, "cannot be a name", "system", "add", "..", "linux-server", address, *with_login)
    fails(
        ready,
        1,
        "cannot be reached",
        "system",
        "add",
        "x",
        "linux-server",
        f"127.0.0.1:{free_port('127.0.0.1')}",
        *with_login,
    )
    fails(
        ready,
        2,
        "is not an address",
        "system",
        "add",
        "x",
        "linux-server",
        "nowhere:port",
        *with_login,
    )
    fails(
        ready,
        1,
        "already. Give another address",
        "system",
        "add",
        "web-8",
        "linux-server",
        address,
        *with_login,
    )
    fails(
        ready,
        3,
        "There is no login nobody",
        "system",
        "add",
        "x",
        "linux-server",
        "127.0.0.1:1",
        "--login",
        "nobody",
    )
    ok(ready, "system", "set", "web-9", "--accept-key", "SHA256:another")
    fails(ready, 1, "was accepted for it", "backup", "take", "web-9")
    ok(ready, "system", "set", "web-9", "--accept-key", server.host_key)
    ready.file("other", new_key_pair("x")[0])
    ok(ready, "login", "set", "quay-root", "--key", "other")
    fails(ready, 1, "refuses the account root", "backup", "take", "web-9")
    fails(ready, 2, "cannot be a name", "backup", "take", "web-9", "--name", "../x")
    fails(ready, 2, "no part holidays", "backup", "take", "web-9", "--part", "holidays")
    fails(
        ready,
        2,
        "schedule is missing",
        "routine",
        "add",
        "x",
        "--systems",
        "all",
        "--store",
        "attic",
    )
    ok(
        ready,
        "routine",
        "add",
        "by-hand",
        "--systems",
        "all",
        "--store",
        "attic",
        "--mode",
        "by hand",
    )
    assert "always 3" in ok(ready, "routine", "show", "by-hand").stdout
    fails(ready, 3, "There is no system web-0", "backup", "take", "web-0")
    fails(ready, 3, "There is no backup", "backup", "show", "abcdef123456")
    fails(ready, 3, "There is no run abcdef123456", "run", "stop", "abcdef123456")
    fails(ready, 3, "abc is too short for the id of a run", "run", "stop", "abc")
    fails(ready, 3, "abcde is too short for the id of a run sheet", "restore", "show", "abcde")
    (ready.folder / "other-folder").mkdir()
    fails(
        ready,
        2,
        "too weak",
        "store",
        "add",
        "cellar",
        "other-folder",
        "--passphrase-file",
        ready.file("weak", "boat"),
        "--key-set",
        "other",
    )
    fails(
        ready,
        1,
        "is not there",
        "store",
        "add",
        "cellar",
        "/no/such/folder",
        "--passphrase-file",
        "p.txt",
    )
    fails(ready, 1, "already", "store", "add", "attic", "attic", "--passphrase-file", "p.txt")
    fails(
        ready,
        1,
        "opens none",
        "store",
        "add",
        "cellar",
        "other-folder",
        "--passphrase-file",
        ready.file("wrong", "some other long words"),
    )
    assert list((ready.folder / "other-folder").iterdir()) == [], "nothing was made"
    fails(
        ready,
        2,
        "fullmoon",
        "routine",
        "add",
        "r",
        "--systems",
        "all",
        "--when",
        "every fullmoon at 1:00",
        "--store",
        "attic",
        "--ladder",
        "always 1",
    )
    fails(
        ready,
        2,
        "does not say which systems",
        "routine",
        "add",
        "r",
        "--systems",
        "web*",
        "--when",
        "every day at 01:00",
        "--store",
        "attic",
        "--ladder",
        "always 1",
    )
    fails(ready, 2, "neither .tar.zst nor .tar.gz", "backup", "export", "x", "--to", "out.rar")
    fails(ready, 1, "is used by web-9", "login", "remove", "quay-root")


def test_signing_in_and_out(service: Service) -> None:
    password = service.file("password", PASSWORD)
    service.token = ""
    fails(service, 4, "not signed in", "status")
    wrong = service.file("wrong", "not the password")
    fails(
        service,
        4,
        "is wrong",
        "sign-in",
        service.address,
        "--user",
        "harbour-admin",
        "--password-file",
        wrong,
    )
    ok(service, "sign-in", service.address, "--user", "harbour-admin", "--password-file", password)
    saved = service.folder / "config/fennox/sign-in.json"
    assert saved.stat().st_mode & 0o077 == 0
    assert "fennox store add" in ok(service, "status").stderr
    second = service.file("second", "seven slow grey herons")
    ok(service, "user", "add", "purser", "--role", "reader", "--password-file", second)
    weak = service.file("weak", "boat")
    fails(
        service, 2, "too weak", "user", "add", "mate", "--role", "operator", "--password-file", weak
    )
    fails(service, 1, "last administrator", "user", "remove", "harbour-admin")
    ok(service, "user", "remove", "purser")
    assert ok(service, "user", "list", "--quiet").stdout.split() == ["harbour-admin"]
    ok(service, "sign-out")
    assert not saved.exists()


def _verbs(noun: argparse.ArgumentParser) -> list[argparse.ArgumentParser]:
    """Also those of a noun within a noun."""
    inner = [action for action in noun._actions if action.dest == "verb"]
    if not inner:
        return [noun]
    choices = inner[0].choices
    assert isinstance(choices, dict)
    return [verb for one in choices.values() for verb in _verbs(one)]


def test_every_verb_has_help_and_the_shells_get_their_completion(
    capsys: pytest.CaptureFixture[str],
) -> None:
    parser = build()
    nouns = next(a for a in parser._actions if a.dest == "noun")
    verbs = 0
    for noun in nouns.choices.values():  # type: ignore[union-attr]
        for verb in _verbs(noun):
            assert verb.description
            module, function = verb.get_default("handler").split(":")
            handler = getattr(importlib.import_module(f"fennox.cli.{module}"), function)
            assert callable(handler)
            verbs += 1
    assert verbs > 40
    for name, noun in nouns.choices.items():  # type: ignore[union-attr]
        alone = next(a for a in build(name)._actions if a.dest == "noun")
        help_alone = alone.choices[name].format_help()  # type: ignore[index]
        assert help_alone == noun.format_help(), "built alone, it is the same"
    from fennox.cli.main import main

    assert main(["--completion", "bash"]) == 0
    assert "_fennox" in capsys.readouterr().out
    assert main([]) == 2


def test_kind_check_names_every_mistake(service: Service, tmp_path: Path) -> None:
    wrong = tmp_path / "wrong.toml"
    wrong.write_text('name = "Wrong Name"\nversion = 0\n')
    done = service.fennox("kind", "check", str(wrong))
    assert done.returncode == 1
    assert f"{wrong}:1:1: name:" in done.stdout
    assert f"{wrong}:2:1: version:" in done.stdout
