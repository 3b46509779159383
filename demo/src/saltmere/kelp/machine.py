"""A Kelp server."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from saltmere.appliance_server import ApplianceServer
from saltmere.linux import new_key_pair


@dataclass
class KelpServer(ApplianceServer):
    """``repair_key``: the public key of the login that works in the repair mode."""

    program: ClassVar[str] = "kelp"
    repair_key: str = ""

    def install(self, name: str, authorised_key: str) -> None:
        super().install(name, authorised_key)
        self.write("/etc/kelp/repair_keys", self.repair_key)

    def choose(self, mode: Literal["ordinary", "repair"]) -> None:
        """What somebody at the machine does."""
        self.do("mode", mode)

    def set_up(self) -> None:
        """The directory of Saltmere Ferries, on its first member."""
        with self.in_one() as do:
            for person, rank in (("anna", "skipper"), ("bo", "mate"), ("cai", "engineer")):
                do("set", f"crew/{person}", rank)
            for pier in ("quay", "holm", "northness"):
                do("set", f"piers/{pier}", f"berths at {pier}")

    def cut_save_short(self) -> None:
        """The night's save has not ended."""
        newest = sorted((self.folder / "var/lib/kelp/saves").glob("*.kelp"))[-1]
        newest.with_suffix(".part").write_text(newest.read_text()[:-40])
        newest.unlink()

    def save_now(self) -> None:
        """Another night has passed."""
        (self.folder / "var/lib/kelp/night").unlink(missing_ok=True)
        self.do("clock")

    def state(self) -> Any:
        """Every entry, and a digest of its value."""
        held: Any = self.told("list")["entries"]
        return [one["content"].split() for one in held]


def join(members: Sequence[KelpServer]) -> None:
    """They are members of one set from now on."""
    keys = {one.host: new_key_pair(f"kelp at {one.host}") for one in members}
    for one in members:
        others = [other for other in members if other is not one]
        lines = [
            f"[{other.host}]:{other.port} "
            + " ".join(other.read("/etc/ssh/ssh_host_ed25519_key.pub").split()[:2])
            for other in others
        ]
        one.write("/etc/kelp/key", keys[one.host][0], mode=0o600)
        one.write("/etc/kelp/known_hosts", "".join(f"{line}\n" for line in lines))
        one.write("/etc/kelp/peers", "".join(f"{it.host} {it.port}\n" for it in others))
        for other in others:
            one.append("/root/.ssh/authorized_keys", f"\n{keys[other.host][1]}\n")
    members[0].do("meet")
