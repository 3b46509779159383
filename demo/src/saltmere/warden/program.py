"""Warden itself, as it is installed on its server. Its manual: ``demo/docs/warden.md``."""

from saltmere.clock import now
from saltmere.command_line import CommandLine
from saltmere.warden import runs, state


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
    verb("place", runs.add_place, "name host port account key folder")
    verb("contents", runs.contents, "place")
    verb("run", runs.shown)
    backup = verb("backup", lambda **told: runs.begin("backup", name="", **told), "place")
    restore = verb("restore", lambda **told: runs.begin("restore", **told), "place name")
    work = verb("work", runs.work, "what place name")
    for one in (backup, restore, work):
        one.add_argument("--system", action="store_true")
    line.run()
