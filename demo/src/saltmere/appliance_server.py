"""An appliance that is a Linux server of its own, with a program of its own: what its administrator
reaches by SSH.
"""

from __future__ import annotations

import json
import marshal
import shlex
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from importlib import resources
from importlib.util import MAGIC_NUMBER
from pathlib import Path
from types import CodeType
from typing import Any, ClassVar

from saltmere.linux import LinuxServer

_SHEBANG = b"#!/usr/bin/python3 -ISB\n"  # nothing but the standard library
_IN_ONE = """
import io, json, sys
sys.path.insert(0, "/usr/local/bin/{program}")
from saltmere.{program}.program import main
for words, feed in json.load(sys.stdin):
    sys.argv, sys.stdin = words, io.StringIO(feed)
    main()
"""


@cache
def _compiled(name: str, source: bytes) -> bytes:
    """As a ``.pyc`` file that is never checked against its source (PEP 552): compiling costs each
    call of the command more than running it.
    """
    unchecked = (0b01).to_bytes(4, "little")
    code: CodeType = compile(source, name, "exec")
    return MAGIC_NUMBER + unchecked + bytes(8) + marshal.dumps(code)


@dataclass
class ApplianceServer(LinuxServer):
    """``program``: the command that it is worked with, and the package whose module ``program``
    that is. ``clock``: the socket of the estate's.
    """

    program: ClassVar[str]
    modules: ClassVar[tuple[str, ...]] = ()  # of saltmere, that it needs beside
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
            for module in ("__init__.py", "clock.py", "command_line.py", *self.modules, *modules):
                name = f"saltmere/{module}"
                app.writestr(f"{name}c", _compiled(name, saltmere.joinpath(module).read_bytes()))
            main = f"from saltmere.{self.program}.program import main\n\nmain()\n"
            app.writestr("__main__.pyc", _compiled("__main__.py", main.encode()))
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

    @contextmanager
    def in_one(self) -> Iterator[Callable[..., None]]:
        """Collect what its command is to do, and have one interpreter do all of it at the end: each
        start takes longer than the work.
        """
        lines: list[tuple[tuple[str, ...], str]] = []

        def do(*words: str, feed: str = "") -> None:
            lines.append(((self.program, *words), feed))

        yield do
        script = _IN_ONE.format(program=self.program)
        self.run("/usr/bin/python3", "-ISB", "-c", script, feed=json.dumps(lines))

    def told(self, *words: str) -> Any:
        """What its command answers, as JSON."""
        return json.loads(self.do(*words))
