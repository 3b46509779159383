"""Warden itself, as it is installed on its server. Its manual: ``demo/docs/warden.md``."""

from typing import Any

from saltmere import pages
from saltmere.clock import now
from saltmere.command_line import CommandLine
from saltmere.warden import runs, state


def back_up(told: dict[str, Any]) -> None:
    runs.begin("backup", told["place"], "", system=told.get("system") == "yes")


def serve(host: str, port: str) -> None:
    """Everything but what is for the command line alone: places, passphrase, and going back."""
    routes: dict[str, pages.Route] = {
        "GET /about": state.about,
        "GET /clock": lambda: {"time": now()},
        "GET /list": state.listed,
        "GET /run": lambda: {name: told for name, told in runs.state().items() if name != "by"},
        "POST /backups": back_up,
        "GET /reports": lambda: sorted(path.name for path in state.REPORTS.iterdir()),
        "PUT /policies/{name}": lambda name, told: state.put("policies", name, told["rule"]),
        "PUT /devices/{name}": lambda name, told: state.put("devices", name, told["at"]),
        "DELETE /policies/{name}": lambda name: state.remove("policy", name),
        "DELETE /devices/{name}": lambda name: state.remove("device", name),
    }
    pages.serve(state.PAGES, host, int(port), routes)


def set_administrator(name: str) -> None:
    pages.set_administrator(state.PAGES, name, state.given())


def main() -> None:
    line = CommandLine("warden", __doc__)
    verb = line.verb

    verb("about", state.about)
    verb("clock", now)
    verb("list", state.listed)
    verb("install", state.install, "name")
    verb("policy", lambda name, rule: state.put("policies", name, rule), "name rule")
    verb("device", lambda name, address: state.put("devices", name, address), "name address")
    verb("person", lambda name: state.put("people", name, state.hashed(state.given())), "name")
    verb("system", lambda name, value: state.put("system", name, value), "name value")
    removing = verb("remove", state.remove)
    removing.add_argument("sort", choices=state.SORTS)
    removing.add_argument("name")
    verb("passphrase", state.set_passphrase)
    verb("report", state.report)
    verb("administrator", set_administrator, "name")
    verb("pages", pages.begin, "host port")
    verb("serve", serve, "host port")
    verb("place", runs.add_place, "name host port account key folder")
    verb("contents", runs.contents, "place")
    verb("run", runs.shown)
    backup = verb("backup", lambda **told: runs.begin("backup", name="", **told), "place")
    restore = verb("restore", lambda **told: runs.begin("restore", **told), "place name")
    work = verb("work", runs.work, "what place name")
    for one in (backup, restore, work):
        one.add_argument("--system", action="store_true")
    line.run()
