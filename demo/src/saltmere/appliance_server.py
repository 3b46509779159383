"""An appliance that is a Linux server of its own, with a program of its own: what its administrator
reaches by SSH.
"""

from __future__ import annotations

import json
import shlex
import zipfile
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any, ClassVar

from saltmere.linux import LinuxServer

_SHEBANG = b"#!/usr/bin/python3 -ISB\n"  # nothing but the standard library


@dataclass
class ApplianceServer(LinuxServer):
    """``program``: the command that it is worked with, and the package whose module ``program``
    that is. ``clock``: the socket of the estate's.
    """

    program: ClassVar[str]
    clock: Path | None = None

    @property
    def address(self) -> str:
        return f"{self.host}:{self.port}"

    @property
    def fingerprint(self) -> str:
        return self.host_key

    def install(self, name: str, authorised_key: str) -> None:
        """A new one, as its installer leaves it; it is complete once it has started."""
        super().install(name, authorised_key)
        command = self.folder / "local/bin" / self.program
        command.parent.mkdir(parents=True, exist_ok=True)
        command.write_bytes(_SHEBANG)
        with zipfile.ZipFile(command, "a") as app:
            saltmere = resources.files("saltmere")
            own = [one.name for one in saltmere.joinpath(self.program).iterdir()]
            modules = [f"{self.program}/{name}" for name in own if name.endswith(".py")]
            for module in ("__init__.py", "clock.py", "command_line.py", *modules):
                app.writestr(f"saltmere/{module}", saltmere.joinpath(module).read_bytes())
            main = f"from saltmere.{self.program}.program import main\n\nmain()\n"
            app.writestr("__main__.py", main)
        command.chmod(0o755)

    def start(self) -> None:
        super().start()
        mark = self.folder / "local/installed"
        if not mark.exists():
            self.do("install", self.read("/etc/hostname").strip())
            mark.touch()

    def _programs(self) -> str:
        if self.clock is None:
            return super()._programs()
        at = shlex.quote(str(self.clock.resolve()))
        return f"{super()._programs()}; touch run/estate-clock; mount --bind {at} run/estate-clock"

    def do(self, *words: str, feed: str = "") -> str:
        """Run its command as its administrator does."""
        return self.run(self.program, *words, feed=feed)

    def told(self, *words: str) -> Any:
        """What its command answers, as JSON."""
        return json.loads(self.do(*words))
