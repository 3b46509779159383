"""Fender itself, as it is installed on its server. Its manual: ``demo/docs/fender.md``."""

import configparser
import hashlib
import json
import secrets
import sys
from pathlib import Path

from saltmere import pages
from saltmere.clock import now
from saltmere.command_line import CommandLine, Refused
from saltmere.fender.databases import BuiltIn, PostgreSql, Rows

PRODUCT, VERSION = "fender", "8.3"
CONF, STATE = Path("/etc/fender/fender.conf"), Path("/var/lib/fender")
KEY, ID, RUNS, PREPARED = (STATE / name for name in ("keys/server.key", "id", "runs", "prepared"))
ENDPOINTS, PAGES = Path("/srv/endpoints"), STATE / "pages"


def install(name: str) -> None:
    for folder in (CONF.parent, KEY.parent, ENDPOINTS):
        folder.mkdir(parents=True, exist_ok=True)
    ID.write_text(f"FND-{secrets.token_hex(6)}\n")
    pages.install(PAGES, "fender")
    KEY.touch(0o600)
    KEY.write_text(f"made up key {secrets.token_hex(32)}\n")
    told = f"[fender]\nname = {name}\nlisten = 0.0.0.0:9444\n\n[database]\nsort = built-in\n"
    CONF.write_text(told)
    BuiltIn().make()
    put("policy", "default", "nothing is allowed")
    put("person", "admin", hashed("fender"))
    RUNS.touch()


def conf() -> configparser.ConfigParser:
    read = configparser.ConfigParser()
    read.read(CONF)
    if not {"fender", "database"} <= set(read):
        raise Refused(f"{CONF} lacks [fender] or [database]")
    return read


def database() -> BuiltIn | PostgreSql:
    match conf()["database"]["sort"]:
        case "built-in":
            return BuiltIn()
        case "postgresql":
            return PostgreSql()
        case other:
            raise Refused(f"{CONF}: {other} is no database")


def of(sort: str) -> dict[str, str]:
    return {name: value for one, name, value in database().rows() if one == sort}


def put(sort: str, name: str, value: str) -> None:
    if sort == "endpoint":
        (ENDPOINTS / name).write_text(key())  # on its own disk
    kept = [row for row in database().rows() if row[:2] != (sort, name)]
    database().replace([*kept, (sort, name, value)])


def remove(sort: str, name: str) -> None:
    if name not in of(sort):
        raise Refused(f"there is no {sort} {name}")
    database().replace([row for row in database().rows() if row[:2] != (sort, name)])


def hashed(password: str) -> str:
    salt = secrets.token_hex(8)
    return f"{salt}:{hashlib.scrypt(password.encode(), salt=salt.encode(), n=1024, r=8, p=1).hex()}"


def key() -> str:
    return hashlib.sha256(KEY.read_bytes()).hexdigest() if KEY.exists() else "none"


def answers(endpoint: str) -> bool:
    own = ENDPOINTS / endpoint
    return own.exists() and own.read_text() == key()


def about() -> str:
    told = {"id": ID.read_text().strip(), "product": PRODUCT, "version": VERSION}
    own = {"name": conf()["fender"]["name"], "database": conf()["database"]["sort"]}
    now_ = {"key": key(), "runs": RUNS.exists(), "pages": {"key": pages.fingerprint(PAGES)}}
    return json.dumps({**told, **own, **now_}, indent=1)


def listed() -> str:
    endpoints = [
        {"name": name, "policy": policy, "answers": answers(name)}
        for name, policy in of("endpoint").items()
    ]
    told = {
        "policies": [{"name": name, "rule": rule} for name, rule in of("policy").items()],
        "people": [{"name": name} for name in of("person")],
        "endpoints": endpoints,
    }
    return json.dumps(told, indent=1)


def start() -> None:
    conf()
    RUNS.touch()


def stop() -> None:
    RUNS.unlink(missing_ok=True)


def dump() -> str:
    rows = [list(row) for row in database().rows()]
    return json.dumps({"fender": VERSION, "objects": rows}, indent=1)


def load() -> None:
    if RUNS.exists():
        raise Refused("its service runs; stop it first")
    try:
        told = json.loads(sys.stdin.read())
        rows: Rows = [(str(sort), str(name), str(value)) for sort, name, value in told["objects"]]
        version = told["fender"]
    except (ValueError, KeyError, TypeError) as error:
        raise Refused("this is no dump") from error
    if version != VERSION:
        raise Refused(f"this is a dump of {version}, and here is {VERSION}")
    database().replace(rows)


def move(step: str) -> None:
    """To PostgreSQL."""
    done = PREPARED.read_text() if PREPARED.exists() else ""
    if conf()["database"]["sort"] == "postgresql":
        raise Refused("it uses PostgreSQL already")
    match step:
        case "prepare":
            PostgreSql().make()
            PREPARED.write_text("prepared")
        case "copy" if done:
            PostgreSql().replace(BuiltIn().rows())
            PREPARED.write_text("copied")
        case "switch" if done == "copied":
            read = conf()
            read["database"]["sort"] = "postgresql"
            with CONF.open("w") as file:
                read.write(file)
            PREPARED.unlink()
        case _:
            raise Refused("prepare, copy and switch come one after the other")


def test() -> str:
    silent = [name for name in of("endpoint") if not answers(name)]
    wrong = [f"these endpoints do not answer: {', '.join(silent)}"] if silent else []
    wrong += [] if RUNS.exists() else ["it does not run"]
    if wrong:
        raise Refused("; ".join(wrong))
    return "sound"


def serve(host: str, port: str) -> None:
    """What it manages; what lies beneath is for its command."""
    routes: dict[str, pages.Route] = {
        "GET /about": about,
        "GET /clock": lambda: {"time": now()},
        "GET /list": listed,
        "PUT /policies/{name}": lambda name, told: put("policy", name, str(told["rule"])),
        "PUT /endpoints/{name}": lambda name, told: put("endpoint", name, str(told["policy"])),
        "DELETE /policies/{name}": lambda name: remove("policy", name),
        "DELETE /endpoints/{name}": lambda name: remove("endpoint", name),
    }
    pages.serve(PAGES, host, int(port), routes)


def main() -> None:
    line = CommandLine("fender", __doc__)
    verb = line.verb

    def person(name: str) -> None:
        put("person", name, hashed(sys.stdin.readline().strip()))

    def administrator(name: str) -> None:
        pages.set_administrator(PAGES, name, sys.stdin.readline().strip())

    verb("about", about)
    verb("clock", now)
    verb("list", listed)
    verb("start", start)
    verb("stop", stop)
    verb("dump", dump)
    verb("load", load)
    verb("test", test)
    verb("install", install, "name")
    verb("move", move, "step")
    verb("policy", lambda name, rule: put("policy", name, rule), "name rule")
    verb("endpoint", lambda name, policy: put("endpoint", name, policy), "name policy")
    verb("person", person, "name")
    verb("administrator", administrator, "name")
    verb("pages", pages.begin, "host port")
    verb("serve", serve, "host port")
    removing = verb("remove", remove)
    removing.add_argument("sort", choices=("policy", "endpoint", "person"))
    removing.add_argument("name")
    line.run()
