"""A Gullery server."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from saltmere.appliance_server import ApplianceServer
from saltmere.linux import LinuxServer, new_key_pair


@dataclass
class GulleryServer(ApplianceServer):
    program: ClassVar[str] = "gullery"

    def set_up(self) -> None:
        """Make a new one the controller of Saltmere Ferries' collectors."""
        with self.in_one() as do:
            for source in ("tide", "engine", "berth"):
                why = f"collect {source}s"
                do("set", source, f"every 60 s from {source}.saltmere.example", "m.quay", why)
                do("key", source, feed=f"made-up-key-of-{source}\n")

    def send_to(self, other: LinuxServer) -> None:
        """Commits go to ``other`` from now on, under a key of this server's own."""
        private, public = new_key_pair("gullery")
        self.write("/etc/gullery/key", private, mode=0o600)
        host_key = " ".join(other.read("/etc/ssh/ssh_host_ed25519_key.pub").split()[:2])
        self.write("/etc/gullery/known_hosts", f"[{other.host}]:{other.port} {host_key}\n")
        other.append("/root/.ssh/authorized_keys", public)
        other.run("git", "init", "-q", "--bare", "-b", "main", "/srv/gullery.git")
        self.do("sends-to", f"ssh://root@{other.host}:{other.port}/srv/gullery.git")
        self.do("send")

    def state(self) -> Any:
        """What it manages, and what keys it knows collectors by."""
        keys = {
            one["name"]: self.read(f"/srv/gullery/keys/{one['name']}")
            for one in self.told("list")["keys"]
        }
        return {**self.told("list"), "keys": keys, "name": self.told("about")["name"]}
