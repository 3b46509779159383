"""Masthead itself, as it is installed on its server. Its manual: ``demo/docs/masthead.md``."""

import configparser
import contextlib
import gzip
import hashlib
import json
import os
import re
import secrets
import sqlite3
import sys
import time
from pathlib import Path
from typing import Any

from saltmere.clock import now
from saltmere.command_line import CommandLine, Refused

PRODUCT, VERSION = "masthead", "3.2"
SETTINGS, PLUGINS, STATE, RUNS = (
    Path(path)
    for path in ("/etc/masthead", "/opt/masthead/plugins", "/var/lib/masthead", "/run/masthead")
)
ARCHIVES, LOADS = STATE / "archives", STATE / "load"
TABLES = ("hosts", "checks", "people")
SERVICES = ("core", "face")  # face needs core
TRIAL = 25  # checks


def opened() -> sqlite3.Connection:
    return sqlite3.connect(STATE / "objects.db", isolation_level=None)


def install(name: str) -> None:
    for folder in (SETTINGS, PLUGINS, ARCHIVES, LOADS, RUNS):
        folder.mkdir(parents=True, exist_ok=True)
    (STATE / "id").write_text(f"MAST-{secrets.token_hex(6)}\n")
    conf = f"[masthead]\nname = {name}\nlisten = 0.0.0.0:9443\nkeep = 7\n"
    (SETTINGS / "masthead.conf").write_text(conf)
    put_plugin = PLUGINS / "alive"
    put_plugin.write_text("#!/bin/sh\nexec true\n")
    put_plugin.chmod(0o755)
    with contextlib.closing(opened()) as db:
        db.execute("create table objects (sort, name, value, primary key (sort, name))")
    put("hosts", "localhost", "127.0.0.1")
    put("checks", "localhost/alive", "alive")
    put("people", "admin", hashed("masthead"))
    for service in SERVICES:
        (RUNS / service).touch()


def hashed(password: str) -> str:
    salt = secrets.token_hex(8)
    return f"{salt}:{hashlib.scrypt(password.encode(), salt=salt.encode(), n=1024, r=8, p=1).hex()}"


def conf() -> configparser.SectionProxy:
    read = configparser.ConfigParser()
    read.read(SETTINGS / "masthead.conf")
    if "masthead" not in read:
        raise Refused("there is no masthead.conf with a section [masthead]")
    return read["masthead"]


def licence() -> tuple[str, int]:
    """The key, and how many checks it covers."""
    file = SETTINGS / "licence.key"
    key = file.read_text().strip() if file.exists() else ""
    read = re.fullmatch(r"MAST-(\d+)-[A-Z0-9]+", key)
    return (key, int(read.group(1))) if read else ("", TRIAL)


def rows(table: str) -> list[tuple[str, str]]:
    with contextlib.closing(opened()) as db:
        wanted = "select name, value from objects where sort = ? order by name"
        return list(db.execute(wanted, (table,)))


def put(table: str, name: str, value: str) -> None:
    with contextlib.closing(opened()) as db:
        db.execute("insert or replace into objects values (?, ?, ?)", (table, name, value))


def change(table: str, name: str, value: str | None) -> None:
    put(table, name, hashed(sys.stdin.readline().strip()) if table == "people" else value or "")


def remove(table: str, name: str) -> None:
    with contextlib.closing(opened()) as db:
        gone = "delete from objects where sort = ? and name = ?"
        if not db.execute(gone, (table, name)).rowcount:
            raise Refused(f"there is no {name}")


def idle(name: str, plugin: str, number: int) -> str:
    """Why a check does not run; empty: it runs."""
    if name.split("/")[0] not in dict(rows("hosts")):
        return "its host is unknown"
    path = Path(plugin) if plugin.startswith("/") else PLUGINS / plugin
    if not os.access(path, os.X_OK):
        return f"there is no plugin {path}"
    return "" if number < licence()[1] else "the licence does not cover it"


def about() -> dict[str, object]:
    key, checks = licence()
    told = {"id": (STATE / "id").read_text().strip(), "product": PRODUCT, "version": VERSION}
    return {**told, "name": conf()["name"], "licence": key, "covers": checks}


def listed() -> dict[str, Any]:
    checks = [
        {"name": name, "plugin": plugin, "idle": idle(name, plugin, number)}
        for number, (name, plugin) in enumerate(rows("checks"))
    ]
    return {
        "hosts": [{"name": name, "address": address} for name, address in rows("hosts")],
        "checks": checks,
        "people": [{"name": name} for name, _ in rows("people")],
        "services": [{"name": one, "runs": (RUNS / one).exists()} for one in SERVICES],
    }


def start(service: str) -> None:
    if service == "face" and not (RUNS / "core").exists():
        raise Refused("core does not run; start it first")
    conf()
    (RUNS / service).touch()


def stop(service: str) -> None:
    if service == "core" and (RUNS / "face").exists():
        raise Refused("face runs; stop it first")
    (RUNS / service).unlink(missing_ok=True)


def archive() -> str:
    """One for the day, and no more than are kept."""
    if (STATE / "archives-stuck").exists():  # a trap: it says so, and leaves what was there
        return "archived"
    day = time.strftime("%Y-%m-%d", time.gmtime(now()))
    tables = {table: dict(rows(table)) for table in TABLES}
    digest = hashlib.sha256(json.dumps(tables, sort_keys=True).encode()).hexdigest()
    held = {"version": VERSION, "made": now(), "digest": digest, **tables}
    fresh = ARCHIVES / ".new"
    fresh.write_bytes(gzip.compress(json.dumps(held).encode()))
    fresh.replace(ARCHIVES / f"masthead-{day}.mha")
    for old in sorted(ARCHIVES.glob("*.mha"))[: -int(conf()["keep"])]:
        old.unlink()
    return "archived"


def load() -> None:
    file = LOADS / "objects.mha"
    if not file.exists():
        raise Refused(f"there is no {file}")
    if any((RUNS / service).exists() for service in SERVICES):
        raise Refused("core or face runs; stop them first")
    try:
        held = json.loads(gzip.decompress(file.read_bytes()))
        version, digest = held.pop("version"), held.pop("digest")
        held.pop("made")
    except (OSError, ValueError, KeyError, EOFError) as error:
        raise Refused(f"{file} is no archive") from error
    if version.split(".")[0] != VERSION.split(".")[0]:
        raise Refused(f"this is an archive of {version}, and here is {VERSION}")
    if hashlib.sha256(json.dumps(held, sort_keys=True).encode()).hexdigest() != digest:
        raise Refused(f"{file} is damaged")
    for table in TABLES:
        for name, value in held[table].items():
            put(table, name, value)
    file.unlink()


def test() -> str:
    wrong = [f"{one['name']}: {one['idle']}" for one in listed()["checks"] if one["idle"]]
    wrong += [f"{one['name']} does not run" for one in listed()["services"] if not one["runs"]]
    if wrong:
        raise Refused("; ".join(wrong))
    return "sound"


def main() -> None:
    line = CommandLine("masthead", __doc__)
    verb = line.verb

    verb("about", lambda: json.dumps(about(), indent=1))
    verb("clock", now)
    verb("list", lambda: json.dumps(listed(), indent=1))
    verb("archive", archive)
    verb("load", load)
    verb("test", test)
    verb("install", install, "name")
    for service in (verb("start", start), verb("stop", stop)):
        service.add_argument("service", choices=SERVICES)
    changes, removes = verb("set", change), verb("remove", remove)
    for one in (changes, removes):
        one.add_argument("table", choices=TABLES)
        one.add_argument("name")
    changes.add_argument("value", nargs="?", help="of a person: on standard input")
    line.run()
