"""A place to which appliances push their backups and from which they fetch them, by SFTP."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import asyncssh


class Refused(Exception):
    """Why a backup cannot be made, pushed or loaded, for the administrator."""


@dataclass(frozen=True)
class Place:
    """An SFTP server. ``key``: its fingerprint."""

    host: str
    port: int
    account: str
    secret: str
    key: str
    folder: str

    @classmethod
    def told(cls, said: dict[str, Any]) -> Place:
        return cls(
            str(said["host"]),
            int(said["port"]),
            str(said["account"]),
            str(said["secret"]),
            str(said["key"]),
            str(said["folder"]).rstrip("/") + "/",
        )

    async def connect(self) -> asyncssh.SSHClientConnection:
        fingerprint = self.key

        class Client(asyncssh.SSHClient):
            def validate_host_public_key(
                self, host: str, addr: str, port: int, key: asyncssh.SSHKey
            ) -> bool:
                return key.get_fingerprint() == fingerprint

        try:
            return await asyncssh.connect(
                self.host,
                self.port,
                username=self.account,
                password=self.secret,
                client_factory=Client,
                known_hosts=([], [], []),
                client_keys=None,
                config=None,
                agent_path=None,
                connect_timeout=10,
            )
        except (OSError, asyncssh.Error) as error:
            raise Refused(f"the place at {self.host}:{self.port} refuses: {error}") from error


async def host_key(host: str, port: int) -> str:
    """The fingerprint that whoever answers there shows."""
    try:
        key = await asyncssh.get_server_host_key(host, port, config=None)
    except (OSError, asyncssh.Error) as error:
        raise Refused(f"the place at {host}:{port} does not answer: {error}") from error
    if key is None:
        raise Refused(f"the place at {host}:{port} shows no key")
    return key.get_fingerprint()


async def push(place: Place, files: dict[str, bytes], old: list[str]) -> None:
    """``old``: names of files that are deleted afterwards, where that is allowed."""
    connection = await place.connect()
    async with connection, connection.start_sftp_client() as client:
        for name, data in files.items():
            try:
                async with client.open(place.folder + name, "wb") as file:
                    await file.write(data)
            except (OSError, asyncssh.Error) as error:
                raise Refused(f"{name} was not accepted: {error}") from error
        for name in old:
            try:
                await client.remove(place.folder + name)
            except asyncssh.SFTPError:
                continue


async def fetched(place: Place, tell: Callable[[int], None]) -> dict[str, bytes]:
    """Everything in the folder. ``tell``: called with the bytes that have come so far."""
    connection = await place.connect()
    files: dict[str, bytes] = {}
    try:
        async with connection, connection.start_sftp_client() as client:
            for name in sorted(await client.listdir(place.folder)):
                if name in (".", ".."):
                    continue
                async with client.open(place.folder + name, "rb") as file:
                    data = await file.read()
                files[name] = data if isinstance(data, bytes) else data.encode()
                tell(sum(map(len, files.values())))
    except (OSError, asyncssh.Error) as error:
        raise Refused(f"it could not be fetched: {error}") from error
    return files
