"""A Logline server: what is worked with over HTTPS, and the Linux server below it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from saltmere.appliance import RunningAppliance
from saltmere.linux import LinuxServer

ADDON = "tide-parser"
_FILES = {
    "/srv/lookups/ports.csv": "port,name\n1,Saltmere Quay\n2,Holm\n3,Northness\n",
    "/srv/lookups/ferries.csv": "ferry,length\nferry-1,84\nferry-2,61\n",
}


@dataclass
class LoglineMachine(RunningAppliance):
    """``authorised_key``: of root, by SSH at ``shell_port``."""

    program: ClassVar[str] = "saltmere.logline"
    password: str = "logline"
    shell_port: int = 22
    authorised_key: str = ""
    server: LinuxServer = field(init=False)

    def __post_init__(self) -> None:
        self.server = LinuxServer(self.folder / "server", self.host, self.shell_port)

    def further(self) -> list[str]:
        return ["--server", str(self.server.folder), "--shell-port", str(self.shell_port)]

    def start_shell(self) -> None:
        """Its Linux server, which the other one needs."""
        if not self.server.installed:
            self.server.install("logline", self.authorised_key)
        self.server.start()

    def launch(self) -> None:
        self.start_shell()
        super().launch()

    def stop(self) -> None:
        super().stop()
        self.server.stop()

    def configure(self, name: str, account: str, password: str) -> None:
        """Make it the log server of Saltmere Ferries."""
        for path, text in _FILES.items():
            self.server.write(path, text)
        self.request("PUT", f"/addons/{ADDON}")
        self._put("input tide gauges", addon=ADDON)
        self._put("stream tides", needs=["input tide gauges"])
        self._put("stream ferries", needs=["stream All messages"])
        self._put("lookup ports", file="/srv/lookups/ports.csv")
        self._put("lookup ferries", file="/srv/lookups/ferries.csv")
        self._put("dashboard harbour", needs=["stream tides", "lookup ports"])
        self._put("dashboard fleet", needs=["stream ferries", "lookup ferries"])
        self.request("PUT", "/name", {"name": name})
        self.request("PUT", "/administrator", {"account": account, "password": password})
        self.account, self.password = account, password

    def _put(self, name: str, **more: object) -> None:
        self.request("PUT", f"/objects/{name.replace(' ', '%20')}", more)

    def names(self) -> list[str]:
        """Every object, as often as it stands."""
        held: Any = self.request("GET", "/objects")
        return sorted(one["name"] for one in held)

    def files(self) -> dict[str, str]:
        there = [path for path in _FILES if (self.server.folder / path.lstrip("/")).exists()]
        return {path: self.server.read(path) for path in there}
