"""Files of a machine over SFTP (draft-ietf-secsh-filexfer-02), for those that have no GNU tar."""

from __future__ import annotations

import contextlib
import secrets
import stat
from collections.abc import AsyncGenerator, AsyncIterator, Iterator

import asyncssh

from fennox.core.errors import FarSideFailed, Unreachable
from fennox.core.names import printable
from fennox.links.base import Address, FarFile, FarFileKind

_BLOCK = 256 * 1024  # bytes
_MOST = 200_000  # entries of one folder
_CUT = (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection)
_GONE = (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath)


class SftpFiles:
    """One SFTP session; paths are bytes, as the machine has them."""

    def __init__(self, client: asyncssh.SFTPClient, address: Address) -> None:
        self._client = client
        self._address = address

    @contextlib.contextmanager
    def _errors(self, doing: str, path: bytes) -> Iterator[None]:
        try:
            yield
        except asyncssh.SFTPPermissionDenied as error:
            raise FarSideFailed(
                f"{self._address} does not let the login {doing} {printable(path)}.",
                "Check the login's rights there.",
            ) from error
        except (OSError, asyncssh.Error) as error:
            if isinstance(error, asyncssh.SFTPError) and not isinstance(error, _CUT):
                raise FarSideFailed(
                    f"{self._address} could not {doing} {printable(path)}:"
                    f" {printable(error.reason)[:200]}",
                    "Check the machine.",
                ) from error
            raise Unreachable(
                f"The connection to {self._address} was cut.",
                "Try again; check the machine if it happens again.",
            ) from error

    async def look(self, path: bytes) -> FarFile | None:
        with self._errors("look at", path):
            try:
                attributes = await self._client.lstat(path)
                return await self._seen(path, attributes)
            except _GONE:
                return None

    async def _seen(self, path: bytes, attributes: asyncssh.SFTPAttrs) -> FarFile:
        mode = attributes.permissions or 0
        kind: FarFileKind = "other"
        if stat.S_ISREG(mode):
            kind = "file"
        elif stat.S_ISDIR(mode):
            kind = "folder"
        elif stat.S_ISLNK(mode):
            kind = "link"
        link = _bytes(await self._client.readlink(path)) if kind == "link" else b""
        size = attributes.size or 0
        owner = (attributes.uid or 0, attributes.gid or 0)
        return FarFile(
            path, kind, size, stat.S_IMODE(mode), *owner, int(attributes.mtime or 0), link
        )

    async def walk(self, root: bytes) -> AsyncGenerator[FarFile, None]:
        found = await self.look(root)
        if found is None:
            return
        waiting = [found]
        while waiting:
            found = waiting.pop()
            yield found
            if found.kind == "folder":
                waiting += sorted(
                    await self._inside(found.path), key=lambda one: one.path, reverse=True
                )

    async def _inside(self, folder: bytes) -> list[FarFile]:
        listed: list[FarFile] = []
        with self._errors("list", folder):
            async for item in self._client.scandir(folder):
                name = _bytes(item.filename)
                if name in (b".", b"..") or b"/" in name:
                    continue
                if len(listed) == _MOST:
                    raise FarSideFailed(
                        f"{printable(folder)} has more than {_MOST} entries.", "Leave it out."
                    )
                with contextlib.suppress(*_GONE):  # it disappeared meanwhile
                    listed.append(await self._seen(folder.rstrip(b"/") + b"/" + name, item.attrs))
        return listed

    async def read(self, path: bytes) -> AsyncGenerator[bytes, None]:
        with self._errors("read", path):
            async with self._client.open(path, "rb") as file:
                while block := await file.read(_BLOCK):
                    yield _bytes(block)

    async def make_folder(self, path: bytes) -> None:
        with self._errors("make the folder", path):
            await self._client.mkdir(path)

    async def make_link(self, path: bytes, target: bytes) -> None:
        with self._errors("make the link", path):
            with contextlib.suppress(*_GONE):
                await self._client.remove(path)
            await self._client.symlink(target, path)

    async def write(self, path: bytes, content: AsyncIterator[bytes], like: FarFile) -> None:
        """Write a temporary file beside the destination, give it the metadata of ``like``, and
        rename it.
        """
        temporary = path + f".fennox-{secrets.token_hex(4)}".encode()
        with self._errors("write", path):
            try:
                async with self._client.open(temporary, "xb") as file:
                    async for block in content:
                        await file.write(block)
                await self.set(temporary, like)
                await self._put_there(temporary, path)
            except BaseException:
                with contextlib.suppress(OSError, asyncssh.Error):
                    await self._client.remove(temporary)
                raise

    async def _put_there(self, temporary: bytes, path: bytes) -> None:
        try:
            await self._client.posix_rename(temporary, path)
        except asyncssh.SFTPOpUnsupported:
            with contextlib.suppress(*_GONE):
                await self._client.remove(path)
            await self._client.rename(temporary, path)

    async def set(self, path: bytes, like: FarFile) -> None:
        """Set owners first, because changing them clears special mode bits."""
        with self._errors("set owner and mode of", path):
            now = await self._client.stat(path)
            if (now.uid or 0, now.gid or 0) != (like.uid, like.gid):
                await self._client.chown(path, like.uid, like.gid)
            if stat.S_IMODE(now.permissions or 0) != like.mode or like.mode & 0o7000:
                await self._client.chmod(path, like.mode)
            if like.kind == "file":
                await self._client.utime(path, (like.modified, like.modified))


def _bytes(text: bytes | str) -> bytes:
    return text if isinstance(text, bytes) else text.encode("utf-8", "surrogateescape")
