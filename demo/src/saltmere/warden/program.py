"""Warden itself, as it is installed on its server. Its manual: ``demo/docs/warden.md``."""

import argparse
import sys
from collections.abc import Callable

from saltmere.clock import now
from saltmere.warden import runs, state


def _arguments() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="warden", description=__doc__)
    verbs = parser.add_subparsers(required=True)

    def verb(name: str, act: Callable[..., object], words: str = "") -> argparse.ArgumentParser:
        made = verbs.add_parser(name)
        for word in words.split():
            made.add_argument(word)
        made.set_defaults(act=act)
        return made

    verb("about", state.about)
    verb("clock", now)
    verb("list", state.listed)
    verb("install", state.install, "name")
    verb("policy", lambda name, rule: state.put("policies", name, rule), "name rule")
    verb("device", lambda name, address: state.put("devices", name, address), "name address")
    verb("person", lambda name: state.put("people", name, state.hashed(state.given())), "name")
    verb("system", lambda name, value: state.put("system", name, value), "name value")
    verb("remove", state.remove, "sort name")
    verb("passphrase", state.set_passphrase)
    verb("report", state.report)
    verb("place", runs.add_place, "name host port account key folder")
    verb("contents", runs.contents, "place")
    verb("run", runs.shown)
    backup = verb("backup", lambda **told: runs.begin("backup", name="", **told), "place")
    restore = verb("restore", lambda **told: runs.begin("restore", **told), "place name")
    work = verb("work", runs.work, "what place name")
    for one in (backup, restore, work):
        one.add_argument("--system", action="store_true")
    return parser


def main() -> None:
    told = vars(_arguments().parse_args())
    try:
        said = told.pop("act")(**told)
    except state.Refused as error:
        print(f"warden: {error}", file=sys.stderr)
        sys.exit(2)
    if said is not None:
        print(said)
