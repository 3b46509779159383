"""Tideway itself, as it is installed on its server. Its manual: ``demo/docs/tideway.md``."""

import ipaddress
import json
import secrets
import shlex
import sys
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path

from saltmere.clock import now
from saltmere.command_line import CommandLine, Refused

PRODUCT, VERSION = "tideway", "2.4"
STATE, AUTHORISED = Path("/var/lib/tideway"), Path("/etc/tideway/authorised")
ID, SCOPES, SERVES = STATE / "id", STATE / "scopes", STATE / "serves"


@dataclass
class Scope:
    """One range, with what belongs to it; ``leases``: hardware by address."""

    first: str
    last: str
    options: dict[str, str] = field(default_factory=dict)
    reserved: dict[str, str] = field(default_factory=dict)
    leases: dict[str, str] = field(default_factory=dict)


def install(_name: str) -> None:
    for folder in (SCOPES, AUTHORISED.parent):
        folder.mkdir(parents=True, exist_ok=True)
    ID.write_text(f"TW-{secrets.token_hex(6)}\n")
    AUTHORISED.write_text("")


def read(name: str) -> Scope:
    file = SCOPES / name
    if not file.exists():
        raise Refused(f"there is no scope {name}")
    return Scope(**json.loads(file.read_text()))


def write(name: str, scope: Scope) -> None:
    (SCOPES / name).write_text(json.dumps(asdict(scope)))


def every() -> dict[str, Scope]:
    return {path.name: read(path.name) for path in sorted(SCOPES.iterdir())}


def _address(text: str) -> ipaddress.IPv4Address:
    try:
        return ipaddress.IPv4Address(text)
    except ValueError as error:
        raise Refused(f"{text} is no address") from error


def add_scope(name: str, first: str, last: str) -> None:
    if (SCOPES / name).exists():
        raise Refused(f"there is a scope {name} already")
    if _address(first) > _address(last):
        raise Refused(f"{last} lies before {first}")
    write(name, Scope(first, last))


def add_option(scope: str, name: str, value: str) -> None:
    held = read(scope)
    held.options[name] = value
    write(scope, held)


def reserve(scope: str, address: str, hardware: str) -> None:
    held = read(scope)
    if not _address(held.first) <= _address(address) <= _address(held.last):
        raise Refused(f"{address} is not in {scope}")
    held.reserved[address] = hardware
    write(scope, held)


def lease(scope: str, hardware: str) -> str:
    if not SERVES.exists():
        raise Refused("it serves nobody")
    held = read(scope)
    own = [one for one, of in {**held.reserved, **held.leases}.items() if of == hardware]
    number = _address(held.first)
    while not own:
        if str(number) not in held.reserved and str(number) not in held.leases:
            own = [str(number)]
        number += 1
        if number > _address(held.last) + 1:
            raise Refused(f"{scope} has no address left")
    held.leases[own[0]] = hardware
    write(scope, held)
    return own[0]


def free(address: str) -> None:
    for name, scope in every().items():
        if scope.leases.pop(address, None):
            write(name, scope)


def about() -> str:
    told = {"id": ID.read_text().strip(), "product": PRODUCT, "version": VERSION}
    return json.dumps({**told, "serves": SERVES.exists()}, indent=1)


def listed() -> str:
    told = [{"name": name, **asdict(scope)} for name, scope in every().items()]
    reserved = [{"name": f"{one} {of}"} for scope in told for one, of in scope["reserved"].items()]
    clients = [{"name": f"{one} {of}"} for scope in told for one, of in scope["leases"].items()]
    for scope in told:
        del scope["reserved"], scope["leases"]
    return json.dumps({"scopes": told, "reservations": reserved, "clients": clients}, indent=1)


def clients() -> str:
    return "\n".join(one for scope in every().values() for one in scope.leases) or "none"


def authorised() -> str:
    known = AUTHORISED.read_text().split() if AUTHORISED.exists() else []
    return "yes" if ID.read_text().strip() in known else "no"


def serve(state: str) -> None:
    if state == "off":
        SERVES.unlink(missing_ok=True)
    elif authorised() == "no":
        raise Refused("the directory has not authorised this server")
    else:
        SERVES.touch()


def dump() -> str:
    lines = []
    for name, scope in every().items():
        lines.append(["scope", name, scope.first, scope.last])
        lines += [["option", name, *one] for one in sorted(scope.options.items())]
        lines += [["reserve", name, *one] for one in sorted(scope.reserved.items())]
    return "\n".join(shlex.join(line) for line in lines)


_REPLAYED: dict[str, Callable[[str, str, str], None]] = {
    "scope": add_scope,
    "option": add_option,
    "reserve": reserve,
}


def _lines() -> list[tuple[int, str, list[str]]]:
    """Raises Refused at the first one that nothing can be made of."""
    read = []
    for number, line in enumerate(sys.stdin.read().splitlines(), 1):
        verb, *words = shlex.split(line) or [""]
        if verb not in _REPLAYED or len(words) != 3:
            raise Refused(f"line {number} is none of a dump")
        read.append((number, verb, words))
    return read


def test() -> str:
    _lines()
    return "sound"


def replay() -> None:
    for number, verb, (first, second, third) in _lines():
        try:
            _REPLAYED[verb](first, second, third)
        except Refused as error:
            raise Refused(f"line {number}: {error}; what stands before it was done") from error


def clear() -> None:
    if any(scope.leases for scope in every().values()):
        raise Refused(f"clients have addresses: {', '.join(clients().splitlines())}")
    for name in every():
        (SCOPES / name).unlink()


def main() -> None:
    line = CommandLine("tideway", __doc__)
    verb = line.verb
    verb("about", about)
    verb("clock", now)
    verb("list", listed)
    verb("clients", clients)
    verb("authorised", authorised)
    verb("dump", dump)
    verb("test", test)
    verb("replay", replay)
    verb("clear", clear)
    verb("install", install, "_name")
    verb("scope", add_scope, "name first last")
    verb("option", add_option, "scope name value")
    verb("reserve", reserve, "scope address hardware")
    verb("lease", lease, "scope hardware")
    verb("free", free, "address")
    verb("serve", serve).add_argument("state", choices=("on", "off"))
    line.run()
