"""Beacon itself, as it is installed on its server. Its manual: ``demo/docs/beacon.md``."""

import json
import secrets
import shutil
import sys
from pathlib import Path
from typing import Any

from saltmere.clock import now
from saltmere.command_line import CommandLine, Refused

PRODUCT, VERSION = "beacon", "6.0"
STATE, RECORDINGS = Path("/var/lib/beacon"), Path("/srv/recordings")
ID, KEPT, RECORDS = STATE / "id", STATE / "settings.json", STATE / "records"
CLIENTS = STATE / "clients"
SORTS = {"device": "devices", "user": "users"}


def install(_name: str) -> None:
    for folder in (CLIENTS, RECORDINGS):
        folder.mkdir(parents=True, exist_ok=True)
    ID.write_text(f"BCN-{secrets.token_hex(6)}\n")
    write({"devices": {}, "users": {"admin": {"password": "beacon"}}})
    RECORDS.touch()


def read() -> dict[str, dict[str, Any]]:
    held: dict[str, dict[str, Any]] = json.loads(KEPT.read_text())
    return held


def write(held: dict[str, dict[str, Any]]) -> None:
    fresh = KEPT.with_suffix(".new")
    fresh.write_text(json.dumps(held))
    fresh.replace(KEPT)


def put(sort: str, name: str, value: dict[str, str]) -> None:
    held = read()
    held[sort][name] = value
    write(held)


def add_device(name: str, address: str) -> None:
    id_ = secrets.token_hex(4)
    (RECORDINGS / id_).mkdir()
    (RECORDINGS / id_ / "first.rec").write_text("what it saw\n")
    password = sys.stdin.readline().strip()
    put("devices", name, {"address": address, "password": password, "id": id_, "found": "yes"})


def add_user(name: str) -> None:
    put("users", name, {"password": sys.stdin.readline().strip()})


def remove(sort: str, name: str) -> None:
    held = read()
    if name not in held[SORTS[sort]]:
        raise Refused(f"there is no {sort} {name}")
    gone = held[SORTS[sort]].pop(name)
    if sort == "device":
        print(f"Remove the recordings of {name} too (yes or no)?", file=sys.stderr)
        answer = sys.stdin.readline().strip()
        if answer not in ("yes", "no"):
            raise Refused("that was neither yes nor no")
        if answer == "yes":
            shutil.rmtree(RECORDINGS / gone["id"], ignore_errors=True)
    write(held)


def connect(name: str) -> None:
    (CLIENTS / name).touch()


def disconnect(name: str) -> None:
    (CLIENTS / name).unlink(missing_ok=True)


def clients() -> str:
    return "\n".join(sorted(path.name for path in CLIENTS.iterdir())) or "none"


def about() -> str:
    told = {"id": ID.read_text().strip(), "product": PRODUCT, "version": VERSION}
    return json.dumps({**told, "records": RECORDS.exists()}, indent=1)


def listed() -> str:
    held = read()
    devices = [
        {"name": name, **{key: one[key] for key in ("address", "id", "found")}}
        for name, one in sorted(held["devices"].items())
    ]
    users = [{"name": name} for name in sorted(held["users"])]
    return json.dumps({"devices": devices, "users": users}, indent=1)


def start() -> None:
    RECORDS.touch()


def stop() -> None:
    RECORDS.unlink(missing_ok=True)


def export() -> str:
    if any(CLIENTS.iterdir()):
        raise Refused(f"clients are connected: {', '.join(clients().splitlines())}")
    held = read()
    for device in held["devices"].values():
        del device["found"]
    return json.dumps({"beacon": VERSION, **held}, indent=1, sort_keys=True)


def load() -> None:
    if RECORDS.exists():
        raise Refused("its service runs; stop it first")
    try:
        told = json.loads(sys.stdin.read())
        version, devices, users = told["beacon"], dict(told["devices"]), dict(told["users"])
    except (ValueError, KeyError, TypeError) as error:
        raise Refused("this is no export") from error
    if version != VERSION:
        raise Refused(f"this is an export of {version}, and here is {VERSION}")
    held = read()
    held["devices"] |= {name: {**one, "found": "no"} for name, one in devices.items()}
    held["users"] |= users
    write(held)


def find() -> None:
    held = read()
    for device in held["devices"].values():
        device["found"] = "yes" if (RECORDINGS / device["id"]).is_dir() else "no"
    write(held)


def test() -> str:
    lost = [name for name, one in sorted(read()["devices"].items()) if one["found"] == "no"]
    wrong = [f"recordings are not found of {', '.join(lost)}"] if lost else []
    wrong += [] if RECORDS.exists() else ["it does not record"]
    if wrong:
        raise Refused("; ".join(wrong))
    return "sound"


def main() -> None:
    line = CommandLine("beacon", __doc__)
    verb = line.verb
    verb("about", about)
    verb("clock", now)
    verb("list", listed)
    verb("clients", clients)
    verb("start", start)
    verb("stop", stop)
    verb("export", export)
    verb("import", load)
    verb("find", find)
    verb("test", test)
    verb("install", install, "_name")
    verb("device", add_device, "name address")
    verb("user", add_user, "name")
    verb("connect", connect, "name")
    verb("disconnect", disconnect, "name")
    removing = verb("remove", remove)
    removing.add_argument("sort", choices=SORTS)
    removing.add_argument("name")
    line.run()
