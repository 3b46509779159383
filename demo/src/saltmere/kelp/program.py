"""Kelp itself, as it is installed on its server. Its manual: ``demo/docs/kelp.md``."""

import configparser
import hashlib
import json
import os
import secrets
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

from saltmere.clock import now
from saltmere.command_line import CommandLine, Refused
from saltmere.kelp.entries import Entries, claimed, merged, numbered, subtree_of

PRODUCT, VERSION = "kelp", "2.6"
ETC, STATE, SSH = Path("/etc/kelp"), Path("/var/lib/kelp"), Path("/root/.ssh")
CONF, PEERS = ETC / "kelp.conf", ETC / "peers"
OWN, MODE, ID, SAVES, NIGHT, ALONE, UNMET = (
    STATE / name for name in ("state.json", "mode", "id", "saves", "night", "alone", "unmet")
)
KEYS, REPAIR_KEYS, ASIDE = SSH / "authorized_keys", ETC / "repair_keys", ETC / "ordinary_keys"
_KEPT = 7  # saves


def install(name: str) -> None:
    for folder in (ETC, SAVES):
        folder.mkdir(parents=True, exist_ok=True)
    ID.write_text(f"KLP-{secrets.token_hex(6)}\n")
    CONF.write_text(f"[kelp]\nname = {name}\n")
    PEERS.touch()
    MODE.write_text("ordinary")
    keep({"people/admin": {"value": "kelp", "number": 1, "gone": False}})


def entries() -> Entries:
    held: Entries = json.loads(OWN.read_text())
    return held


def keep(held: Entries) -> None:
    draft = OWN.with_suffix(".draft")
    draft.write_text(json.dumps(held))
    draft.rename(OWN)


def mode() -> str:
    return MODE.read_text()


def _must_be(wanted: str) -> None:
    if mode() != wanted:
        raise Refused(f"this needs the {wanted} mode, and it is in the {mode()} mode")


def night() -> None:
    """What its own scheduler does, if it is due."""
    due = datetime.fromtimestamp(now(), UTC) - timedelta(hours=2)
    name = f"save-{due:%Y%m%d}"
    if mode() != "ordinary" or (NIGHT.exists() and NIGHT.read_text() == name):
        return
    NIGHT.write_text(name)
    draft = SAVES / f"{name}.part"
    told = {"kelp": VERSION, "made": f"{due:%Y-%m-%d} 02:00", "entries": entries()}
    draft.write_text(json.dumps(told, indent=1))
    draft.rename(SAVES / f"{name}.kelp")
    for old in sorted(SAVES.glob("*.kelp"))[:-_KEPT]:
        old.unlink()


def saved() -> Entries:
    """What the newest save holds."""
    found = sorted(SAVES.glob("*.kelp"))
    held: Entries = json.loads(found[-1].read_text())["entries"] if found else {}
    return held


def about() -> str:
    read = configparser.ConfigParser()
    read.read(CONF)
    own = {"id": ID.read_text().strip(), "product": PRODUCT, "version": VERSION}
    return json.dumps(
        {**own, "name": read["kelp"]["name"], "mode": mode(), "alone": ALONE.exists()}, indent=1
    )


def listed() -> str:
    held = {name: one for name, one in entries().items() if not one["gone"]}
    before = saved()
    saves = [
        {"name": path.name, "ended": path.suffix == ".kelp"} for path in sorted(SAVES.iterdir())
    ]
    told = {
        "entries": [
            {
                "name": name,
                "number": one["number"],
                "content": f"{name} {hashlib.sha256(one['value'].encode()).hexdigest()[:12]}",
                "saved": before.get(name, {}).get("value") == one["value"],
            }
            for name, one in sorted(held.items())
        ],
        "subtrees": sorted({subtree_of(name) for name in held}),
        "reach": [f"{name} {number}" for name, number in sorted(numbered(entries()).items())],
        "peers": [line.split()[0] for line in PEERS.read_text().splitlines()],
        "unmet": json.loads(UNMET.read_text()) if UNMET.exists() else [],
        "saves": saves,
        "unsaved": sorted(name for name, one in entries().items() if before.get(name, {}) != one),
    }
    return json.dumps(told, indent=1)


def change(name: str, value: str, *, gone: bool = False) -> None:
    _must_be("ordinary")
    held = entries()
    if gone and (name not in held or held[name]["gone"]):
        raise Refused(f"there is no {name}")
    if not subtree_of(name) or subtree_of(name) == name:
        raise Refused(f"{name} is no name: write SUBTREE/NAME")
    number = max((one["number"] for one in held.values()), default=0) + 1
    keep({**held, name: {"value": value, "number": number, "gone": gone}})
    meet()


def meet() -> None:
    _must_be("ordinary")
    unmet: list[str] = []
    for line in [] if ALONE.exists() else PEERS.read_text().splitlines():
        host, port = line.split()
        known = ["-o", f"UserKnownHostsFile={ETC / 'known_hosts'}", "-o", "BatchMode=yes"]
        way = ["ssh", "-i", str(ETC / "key"), "-p", port, *known, "-o", "ConnectTimeout=2"]
        asked = subprocess.run(
            [*way, f"root@{host}", "kelp", "exchange"],
            input=json.dumps(entries()),
            capture_output=True,
            text=True,
            check=False,
        )
        if asked.returncode == 0:  # otherwise it is away, or meets nobody
            keep(merged(entries(), json.loads(asked.stdout)))
        else:
            unmet.append(host)
    UNMET.write_text(json.dumps(unmet))


def exchange() -> str:
    _must_be("ordinary")
    if ALONE.exists():
        raise Refused("it stays alone")
    own = entries()
    keep(merged(own, json.load(sys.stdin)))
    return json.dumps(own)


def choose(wanted: str) -> None:
    if "SSH_CONNECTION" in os.environ:
        raise Refused("a mode is chosen at the machine")
    if wanted == mode():
        return
    MODE.write_text(wanted)
    if wanted == "repair":
        ASIDE.write_text(KEYS.read_text())
        KEYS.write_text(REPAIR_KEYS.read_text())
        return
    KEYS.write_text(ASIDE.read_text())
    meet()


def load() -> None:
    _must_be("repair")
    try:
        told = json.loads(sys.stdin.read())
        version, held = told["kelp"], told["entries"]
    except (ValueError, KeyError, TypeError) as error:
        raise Refused("this is no whole save") from error
    if version != VERSION:
        raise Refused(f"this is a save of {version}, and here is {VERSION}")
    keep(held)
    night = told["made"].partition(" ")[0].replace("-", "")
    own = SAVES / f"save-{night}.kelp"
    for later in SAVES.iterdir():
        if later.name > own.name:  # of what it was before
            later.unlink()
    own.write_text(json.dumps(told, indent=1))


def claim(name: str, by: int) -> str:
    _must_be("repair")
    held, count = claimed(entries(), name, by)
    if not count:
        raise Refused(f"there is no {name}")
    keep(held)
    return f"{count} entries are raised by {by}"


def peer(host: str, port: str) -> None:
    with PEERS.open("a") as file:
        file.write(f"{host} {port}\n")


def test() -> str:
    if mode() != "ordinary":
        raise Refused("it is in the repair mode: nobody is served")
    return "sound"


def main() -> None:
    line = CommandLine("kelp", __doc__)
    verb = line.verb

    verb("about", about)
    verb("clock", now)
    verb("list", listed)
    verb("meet", meet)
    verb("exchange", exchange)
    verb("load", load)
    verb("test", test)
    verb("alone", ALONE.touch)
    verb("install", install, "name")
    verb("set", change, "name value")
    verb("remove", lambda name: change(name, "", gone=True), "name")
    verb("peer", peer, "host port")
    choosing = verb("mode", choose)
    choosing.add_argument("wanted", choices=("ordinary", "repair"))
    claiming = verb("claim", claim, "name")
    claiming.add_argument("--by", type=int, required=True)
    if ID.exists():
        night()
    line.run()
