"""What Warden keeps, and how it answers about it."""

import hashlib
import json
import secrets
import sys
import time
from pathlib import Path
from typing import Any

from saltmere import pages
from saltmere.clock import now
from saltmere.command_line import Refused

PRODUCT, VERSION = "warden", "3.0"
STATE = Path("/var/lib/warden")
ID, KEPT, PHRASE, REPORTS = (STATE / name for name in ("id", "state.json", "passphrase", "reports"))
PAGES = STATE / "pages"
SORTS = {"policy": "policies", "device": "devices", "person": "people"}
_MOST_REPORTS, _LONGEST = 1_000_000, 90  # bytes, days


def install(name: str) -> None:
    REPORTS.mkdir(parents=True, exist_ok=True)
    ID.write_text(f"WRD-{secrets.token_hex(6)}\n")
    pages.install(PAGES, "warden")
    write(
        {
            "name": name,
            "policies": {"deny-all": "nobody enters"},
            "devices": {},
            "people": {"admin": hashed("warden")},
            "places": {},
            "system": {"resolver": "none", "zone": "UTC"},
        }
    )


def read() -> dict[str, Any]:
    held: dict[str, Any] = json.loads(KEPT.read_text())
    return held


def write(held: dict[str, Any]) -> None:
    fresh = KEPT.with_suffix(".new")
    fresh.touch(0o600)
    fresh.write_text(json.dumps(held))
    fresh.replace(KEPT)


def put(table: str, name: str, value: object) -> None:
    held = read()
    held[table][name] = value
    write(held)


def hashed(password: str) -> str:
    salt = secrets.token_hex(8)
    return f"{salt}:{hashlib.scrypt(password.encode(), salt=salt.encode(), n=1024, r=8, p=1).hex()}"


def given() -> str:
    """A secret, from standard input."""
    return sys.stdin.readline().rstrip("\n")


def remove(sort: str, name: str) -> None:
    held = read()
    if held[SORTS[sort]].pop(name, None) is None:
        raise Refused(f"there is no {sort} {name}")
    write(held)


def set_passphrase() -> None:
    phrase = given()
    if len(phrase) < 10 or " " in phrase or not any(sign.isdigit() for sign in phrase):
        raise Refused("a passphrase has ten characters or more, one a digit, and no space")
    PHRASE.touch(0o600)
    PHRASE.write_text(phrase)


def about() -> str:
    told = {"id": ID.read_text().strip(), "product": PRODUCT, "version": VERSION}
    own = {"name": read()["name"], "pages": {"key": pages.fingerprint(PAGES)}}
    return json.dumps({**told, **own}, indent=1)


def listed() -> str:
    held = read()
    told: dict[str, Any] = {
        "policies": [
            {"name": name, "rule": rule} for name, rule in sorted(held["policies"].items())
        ],
        "devices": [{"name": name, "at": at} for name, at in sorted(held["devices"].items())],
        "people": [{"name": name} for name in sorted(held["people"])],
        "places": [{"name": name} for name in sorted(held["places"])],
        "system": [{"name": f"{name} {value}"} for name, value in sorted(held["system"].items())],
    }
    return json.dumps(told, indent=1)


def report() -> None:
    """That of the day; weeks beyond the ceiling go."""
    at = time.gmtime(now())
    week, day = time.strftime("%G-W%V", at), time.strftime("%Y-%m-%d", at)
    whole = REPORTS / f"whole-{week}.csv"
    file = REPORTS / f"changes-{day}.csv" if whole.exists() and at.tm_wday else whole
    file.write_text(
        "".join(f"{name};{rule}\n" for name, rule in sorted(read()["policies"].items()))
    )
    weeks = sorted(REPORTS.glob("whole-*.csv"))
    for old in weeks[:-1]:
        reports = list(REPORTS.iterdir())
        too_many = sum(path.stat().st_size for path in reports) > _MOST_REPORTS
        if too_many or old.stat().st_mtime < now() - _LONGEST * 86400:
            _forget(old.stem.removeprefix("whole-"))


def _forget(week: str) -> None:
    (REPORTS / f"whole-{week}.csv").unlink()
    for path in REPORTS.glob("changes-*.csv"):
        day = time.strptime(path.stem.removeprefix("changes-"), "%Y-%m-%d")
        if time.strftime("%G-W%V", day) == week:
            path.unlink()
