"""Writing a backup's documents onto a target through its own tar, into its root or a folder."""

from __future__ import annotations

import re
import tarfile
from collections.abc import AsyncGenerator, AsyncIterator
from contextlib import aclosing, asynccontextmanager
from dataclasses import dataclass
from pathlib import PurePosixPath

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import Document
from fennox.engine.backups.backup_reader import ReadsContent
from fennox.engine.journal import Journal
from fennox.engine.reading import over_sftp
from fennox.engine.reading.tar_stream import tar_head
from fennox.links.base import Output, Shell

_SCRATCH = re.compile(r"/tmp/fennox-check\.[A-Za-z0-9]{8}")  # noqa: S108  # created by mktemp on the target


_AT_ONCE = 200  # paths in one command
_LACKING = 'for at; do test -e "$at" || printf "%s\\0" "$at"; done'
_TOTALS = re.compile(r"(?m)^Total bytes read: (\d+)\b")


async def extract(
    shell: Shell,
    reader: ReadsContent,
    documents: list[Document],
    folder: str,
    journal: Journal,
    *,
    numbers: bool,
    limit: float,
) -> tuple[Output, int]:
    """Feed the documents into the target's tar, or write them one by one if that is not GNU tar.
    ``numbers``: owners by number instead of by name. Also returns how many bytes were sent.
    """
    if (
        shell.language != "posix"
        or b"GNU tar" not in (await shell.run(["tar", "--version"])).output
    ):
        sent = await over_sftp.put_files(shell, reader, documents, folder, journal)
        return Output(0, b"", ""), sent
    owners = ["--numeric-owner"] if numbers else []
    words = [
        "env",
        "LC_ALL=C",
        "TAR_OPTIONS=",  # a record of another size would be counted otherwise
        "tar",
        "--totals",
        "-x",
        "-f",
        "-",
        "-C",
        folder,
        "-p",
        "--same-owner",
        "--keep-directory-symlink",
        *owners,
    ]
    counted = _Counted()
    stream = counted.count(_tar(reader, documents, journal))
    return await shell.run(words, feed=stream, limit=limit), counted.so_far


async def lacking_folders(shell: Shell, paths: list[str]) -> list[str]:
    """Folders above these documents that are not documents themselves, and not there yet."""
    above = {str(folder) for path in paths for folder in PurePosixPath(path).parents}
    wanted = sorted(above - set(paths))
    if shell.language != "posix":
        return []
    found: list[str] = []
    for start in range(0, len(wanted), _AT_ONCE):
        words = ["sh", "-c", _LACKING, "sh", *wanted[start : start + _AT_ONCE]]
        told = await shell.run(words)
        if told.code != 0:
            raise FarSideFailed("The target does not say which folders it has.", "Look at it.")
        found += [name for name in told.output.decode(errors="surrogateescape").split("\0") if name]
    return found


@dataclass
class _Counted:
    so_far: int = 0  # bytes

    async def count(self, pieces: AsyncGenerator[bytes, None]) -> AsyncGenerator[bytes, None]:
        async with aclosing(pieces):
            async for piece in pieces:
                self.so_far += len(piece)
                yield piece


def read_by_target(said: str) -> int | None:
    """Bytes that GNU tar says it read, in its ``--totals``; None: it said nothing of them."""
    found = _TOTALS.search(said)
    return int(found[1]) if found is not None else None


def as_read(sent: int) -> int:
    """What GNU tar counts when it reads ``sent`` bytes: whole records."""
    return -(-sent // tarfile.RECORDSIZE) * tarfile.RECORDSIZE


async def _tar(
    reader: ReadsContent, documents: list[Document], journal: Journal
) -> AsyncGenerator[bytes, None]:
    """The reader verifies every chunk."""
    size = 0
    for number, document in enumerate(documents, start=1):
        await journal.progress(documents=number, bytes=size)
        yield tar_head(document)
        if document.type in ("file", "output"):
            async for piece in reader.content(document):
                size += len(piece)
                yield piece
            yield bytes(-document.size % tarfile.BLOCKSIZE)
    yield bytes(tarfile.BLOCKSIZE * 2)


@asynccontextmanager
async def scratch_folder(shell: Shell) -> AsyncIterator[str]:
    """A temporary folder on the target, removed afterwards. Only a name of the requested form is
    ever removed.
    """
    made = await shell.run(["mktemp", "-d", "/tmp/fennox-check.XXXXXXXX"])  # noqa: S108
    name = made.output.decode("ascii", "replace").strip()
    if made.code != 0 or not _SCRATCH.fullmatch(name):
        raise FarSideFailed(
            "The target gave no folder to check the files in.", "Check its free space."
        )
    try:
        yield name
    finally:
        await shell.run(["rm", "-rf", "--", name])
