"""Watchbill itself, as it is installed on its server. Its manual: ``demo/docs/watchbill.md``."""

import hashlib
import io
import json
import secrets
import shutil
import sys
import tarfile
import time
from pathlib import Path
from typing import Any

from saltmere.clock import now
from saltmere.command_line import CommandLine, Refused

PRODUCT = "watchbill"
FAMILIES = {
    "shoal": (Path("/etc/watchbill"), Path("/var/lib/watchbill")),
    "reef": (Path("/opt/watchbill/etc"), Path("/opt/watchbill/state")),
}
SORTS = ("hosts", "checks", "people")
MOST_SAVED, LAST_MAJOR = 20, 4


def noted(path: str, otherwise: str) -> str:
    file = Path(path)
    return file.read_text().strip() if file.exists() else otherwise


FAMILY = noted("/etc/watchbill-family", "shoal")
VERSION = noted("/etc/watchbill-version", "4.8.2")
SETTINGS, STATE = FAMILIES[FAMILY]
LINKS, SAVED = STATE / "links", STATE / "saved"


def install(name: str) -> None:
    for folder in (SETTINGS, SAVED, *(STATE / sort for sort in SORTS)):
        folder.mkdir(parents=True, exist_ok=True)
    (STATE / "id").write_text(f"WB-{secrets.token_hex(6)}\n")
    (SETTINGS / "name").write_text(f"{name}\n")
    LINKS.write_text("")
    put("hosts", "this-server", "127.0.0.1")
    put("checks", "alive", "true")
    put("people", "watch", hashed("watch"))
    link("this-server", "alive")


def hashed(password: str) -> str:
    salt = secrets.token_hex(8)
    return f"{salt}:{hashlib.scrypt(password.encode(), salt=salt.encode(), n=1024, r=8, p=1).hex()}"


def put(sort: str, name: str, value: str) -> None:
    (STATE / sort / name).write_text(f"{value}\n")


def put_person(name: str) -> None:
    put("people", name, hashed(sys.stdin.readline().strip()))


def remove(sort: str, name: str) -> None:
    file = STATE / f"{sort}s" / name if sort != "person" else STATE / "people" / name
    if not file.exists():
        raise Refused(f"there is no {sort} {name}")
    file.unlink()


def link(host: str, check: str) -> None:
    line = f"{STATE / 'hosts' / host} {STATE / 'checks' / check}"
    links = [*LINKS.read_text().splitlines(), line]
    LINKS.write_text("".join(f"{one}\n" for one in sorted(set(links))))


def links() -> list[tuple[Path, Path]]:
    pairs = (line.split() for line in LINKS.read_text().splitlines())
    return [(Path(host), Path(check)) for host, check in pairs]


def leads(pair: tuple[Path, Path]) -> bool:
    return all(path.exists() for path in pair)


def about() -> str:
    told = {"id": noted(str(STATE / "id"), ""), "product": PRODUCT, "version": VERSION}
    name = (SETTINGS / "name").read_text().strip()
    return json.dumps({**told, "family": FAMILY, "name": name}, indent=1)


def listed() -> str:
    told: dict[str, Any] = {
        sort: [{"name": path.name} for path in sorted((STATE / sort).iterdir())] for sort in SORTS
    }
    for host in told["hosts"]:
        host["address"] = (STATE / "hosts" / host["name"]).read_text().strip()
    told["links"] = [
        {"name": f"{host.name}/{check.name}", "leads": leads((host, check))}
        for host, check in links()
    ]
    return json.dumps(told, indent=1)


def still_supported() -> None:
    if int(VERSION.split(".")[0]) > LAST_MAJOR:
        raise Refused(f"version {VERSION} has neither save nor load: they ended with 4.9")


def save() -> str:
    still_supported()
    if len(list(SAVED.iterdir())) >= MOST_SAVED:
        raise Refused(f"there are {MOST_SAVED} archives in {SAVED} already; remove some")
    stamp = time.strftime("%Y%m%dT%H%M%S", time.gmtime(now()))
    file = SAVED / f"watchbill-{stamp}-{secrets.token_hex(2)}.wbs"
    with tarfile.open(file, "w:gz") as tar:
        _add(tar, "version", VERSION.encode())
        _add(tar, "links", LINKS.read_bytes())
        _add(tar, "name", (SETTINGS / "name").read_bytes())
        for sort in SORTS:
            for path in sorted((STATE / sort).iterdir()):
                _add(tar, f"{sort}/{path.name}", path.read_bytes())
    return str(file)


def _add(tar: tarfile.TarFile, name: str, data: bytes) -> None:
    member = tarfile.TarInfo(name)
    member.size = len(data)
    tar.addfile(member, io.BytesIO(data))


def load(file: str) -> None:
    still_supported()
    try:
        with tarfile.open(file) as tar:
            held = {one.name: _content(tar, one) for one in tar.getmembers()}
    except (tarfile.TarError, OSError, EOFError) as error:
        raise Refused(f"{file} is no archive") from error
    version = held.pop("version", b"").decode()
    if version != VERSION:
        raise Refused(f"this is an archive of version {version}, and here is {VERSION}")
    (SETTINGS / "name").write_bytes(held.pop("name"))
    LINKS.write_bytes(held.pop("links"))
    for sort in SORTS:
        shutil.rmtree(STATE / sort)
        (STATE / sort).mkdir()
    for name, data in held.items():
        sort, _, one = name.partition("/")
        if sort in SORTS and one == Path(one).name:
            (STATE / sort / one).write_bytes(data)


def _content(tar: tarfile.TarFile, member: tarfile.TarInfo) -> bytes:
    opened = tar.extractfile(member)
    return opened.read() if opened is not None else b""


def repair() -> None:
    if (STATE / "repair-fails").exists():
        return
    found = [
        (STATE / "hosts" / host.name, STATE / "checks" / check.name) for host, check in links()
    ]
    LINKS.write_text("".join(f"{host} {check}\n" for host, check in found))


def test() -> str:
    broken = [f"{host.name}/{check.name}" for host, check in links() if not leads((host, check))]
    if broken:
        raise Refused(f"{len(broken)} links lead nowhere: {', '.join(broken)}")
    return "sound"


def main() -> None:
    line = CommandLine("watchbill", __doc__)
    verb = line.verb

    verb("about", about)
    verb("clock", now)
    verb("list", listed)
    verb("save", save)
    verb("load", load, "file")
    verb("repair", repair)
    verb("test", test)
    verb("install", install, "name")
    verb("host", lambda name, address: put("hosts", name, address), "name address")
    verb("check", lambda name, command: put("checks", name, command), "name command")
    verb("person", put_person, "name")
    verb("link", link, "host check")
    removing = verb("remove", remove)
    removing.add_argument("sort", choices=("host", "check", "person"))
    removing.add_argument("name")
    line.run()
