"""Keelson's remote shell: three commands over SSH."""

from __future__ import annotations

import asyncio
import shlex
from collections.abc import Callable

import asyncssh

from saltmere.keelson.installation import Installation, LoadRefused


class _Door(asyncssh.SSHServer):
    def __init__(self, installation: Installation) -> None:
        self._installation = installation

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return self._installation.may_enter(username, password)


async def serve(
    installation: Installation, host: str, port: int, loaded: Callable[[], None]
) -> asyncssh.SSHAcceptor:
    """``loaded``: called when a bundle has been loaded; the host restarts then."""

    async def work(process: asyncssh.SSHServerProcess[bytes]) -> None:
        words = shlex.split(process.command or "")
        code = await _done(installation, words, process, loaded)
        process.exit(code)

    return await asyncssh.listen(
        host,
        port,
        server_factory=lambda: _Door(installation),
        server_host_keys=[str(installation.folder / "shell.key")],
        process_factory=work,
        encoding=None,
    )


async def _done(
    installation: Installation,
    words: list[str],
    process: asyncssh.SSHServerProcess[bytes],
    loaded: Callable[[], None],
) -> int:
    match words:
        case ["keelson", "put", name] if "/" not in name and name not in (".", ".."):
            data = await process.stdin.read()
            (installation.inbox / name).write_bytes(data)
        case ["keelson", "ls"]:
            names = sorted(path.name for path in installation.inbox.iterdir())
            process.stdout.write("".join(f"{name}\n" for name in names).encode())
        case ["keelson", "load"]:
            try:
                await asyncio.to_thread(installation.load)
            except LoadRefused as error:
                process.stderr.write(f"refused: {error}\n".encode())
                return 2
            loaded()
        case _:
            process.stderr.write(b"keelson: put NAME, ls or load\n")
            return 64
    return 0
