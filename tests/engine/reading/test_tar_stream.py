"""A far side's tar stream is doubted: whatever it says, it is read member by member or refused."""

from __future__ import annotations

import base64
import io
import os
import tarfile
from collections.abc import AsyncGenerator, AsyncIterator, Collection, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from dataclasses import dataclass

import anyio
import anyio.lowlevel
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fennox.core.errors import Damaged, Unreachable
from fennox.core.format.manifest import Document, Machine
from fennox.engine.reading.capture import Capture
from fennox.engine.reading.documents import read_documents
from fennox.engine.reading.tar_stream import Member, members, tar_head
from fennox.links.base import Output, RemoteFiles, Running, SecondLink, ShellLanguage
from tests.engine.keeper import shipped_kind

LINUX, _ = shipped_kind("linux-server")


def tar_of(entries: list[tuple[tarfile.TarInfo, bytes]]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for info, content in entries:
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return out.getvalue()


async def in_pieces(data: bytes, size: int) -> AsyncIterator[bytes]:
    for at in range(0, len(data), size):
        yield data[at : at + size]


async def read_all(source: AsyncIterator[bytes]) -> list[tuple[str, bytes]]:
    found: list[tuple[str, bytearray]] = []
    async for item in members(source):
        if isinstance(item, Member):
            found.append((item.info.name, bytearray(item.whole or b"")))
        else:
            found[-1][1].extend(item)
    return [(name, bytes(content)) for name, content in found]


@settings(max_examples=25)
@given(
    st.lists(
        st.tuples(st.from_regex(r"[a-z]{1,20}", fullmatch=True), st.binary(max_size=3000)),
        max_size=8,
    ),
    st.integers(1, 5000),
)
def test_members_come_whole_however_the_stream_arrives(
    entries: list[tuple[str, bytes]], size: int
) -> None:
    data = tar_of([(tarfile.TarInfo(name), content) for name, content in entries])
    assert anyio.run(read_all, in_pieces(data, size)) == entries


@pytest.mark.parametrize("harm", ["cut", "rubbish", "checksum", "nothing", "size"])
async def test_a_stream_that_lies_is_damage_and_ends(harm: str) -> None:
    info = tarfile.TarInfo("etc/a")
    data = bytearray(tar_of([(info, b"x" * 5000), (tarfile.TarInfo("etc/b"), b"y")]))
    match harm:
        case "cut":
            data = data[:3000]
        case "rubbish":
            data = bytearray(os.urandom(20_000))
        case "checksum":
            data[148:156] = b"0000000\0"
        case "nothing":
            data = bytearray()
        case "size":
            data[124:136] = b"77777777777\0"
    with pytest.raises(Damaged):
        await read_all(in_pieces(bytes(data), 1000))


async def test_a_connection_cut_in_the_middle_is_told_as_what_it_is() -> None:
    data = tar_of([(tarfile.TarInfo("etc/a"), b"x" * 50_000)])

    async def cut() -> AsyncIterator[bytes]:
        yield data[:20_000]
        raise Unreachable("The connection was cut.", "Try again.")

    with pytest.raises(Unreachable):
        await read_all(cut())


async def test_whoever_stops_reading_leaves_nothing_behind() -> None:
    async def endless() -> AsyncIterator[bytes]:
        head = tar_of([(tarfile.TarInfo("etc/a"), b"x" * 500)])[:1024]
        while True:
            yield head
            await anyio.lowlevel.checkpoint()

    with anyio.fail_after(10):
        reading = members(endless())
        assert isinstance(await anext(reading), Member)
        await reading.aclose()


@dataclass
class Said:
    """What a command has written."""

    output: Output

    async def blocks(self) -> AsyncGenerator[bytes, None]:
        yield self.output.output

    async def ended(self) -> Output:
        return self.output


class LyingShell:
    """A far side whose tar says what it likes."""

    fingerprint = "SHA256:x"
    language: ShellLanguage = "posix"
    secrets: Mapping[str, str | None] = {}
    beside: SecondLink | None = None

    def __init__(self, stream: bytes) -> None:
        self.data = stream

    async def run(self, words: list[str], *, feed: object = None, limit: float = 60) -> Output:
        return Output(0, "\n".join(["GNU tar", *words[4:]]).encode() + b"\n", "")

    async def ask(self, questions: Sequence[list[str]], *, limit: float = 60) -> list[Output]:
        return [await self.run(words) for words in questions]

    @asynccontextmanager
    async def series(
        self, questions: Sequence[list[str]], *, heard: Collection[int] = ()
    ) -> AsyncIterator[AsyncIterator[Running]]:
        yield (Said(await self.run(words)) for words in questions)

    def stream(self, words: list[str], *, feed: object = None) -> LyingShell:
        return self

    async def __aenter__(self) -> LyingShell:
        return self

    async def __aexit__(self, *_: object) -> None:
        return None

    async def blocks(self) -> AsyncGenerator[bytes, None]:
        async for block in in_pieces(self.data, 4096):
            yield block

    async def ended(self) -> Output:
        return Output(0, b"", "")

    def files(self) -> AbstractAsyncContextManager[RemoteFiles]:
        raise NotImplementedError

    async def close(self) -> None:
        return None


def member(
    name: str, kind: bytes = tarfile.REGTYPE, link: str = ""
) -> tuple[tarfile.TarInfo, bytes]:
    info = tarfile.TarInfo(name)
    info.type, info.linkname = kind, link
    return info, b"content" if kind == tarfile.REGTYPE else b""


async def captured(stream: bytes) -> tuple[dict[str, str], Capture]:
    capture = Capture(LINUX, {}, Machine(id="m", product="debian", version="12"))
    found: dict[str, str] = {}
    async for one in read_documents(LyingShell(stream), capture, ["settings"]):
        found[one.document.path] = one.document.type
        async for _ in one.content:
            pass
    return found, capture


async def test_names_that_step_out_devices_and_what_nobody_asked_for_are_not_taken() -> None:
    hostile = tar_of(
        [
            member("etc/good"),
            member("../../etc/evil"),
            member("etc/../../evil"),
            member("root/.ssh/id_rsa"),
            member("etc/device", tarfile.CHRTYPE),
            member("etc/pipe", tarfile.FIFOTYPE),
            member("etc/link", tarfile.SYMTYPE, "../../../outside"),
            member("etc/passwd"),
            member("etc/" + "n" * 5000),
        ]
    )
    found, capture = await captured(hostile)
    assert found == {"/etc/good": "file", "/etc/link": "link"}
    assert {finding.code for finding in capture.findings} == {"strange-name"}
    assert "/etc/device" in capture.left_out


async def test_names_with_control_characters_are_kept_and_shown_harmlessly() -> None:
    found, capture = await captured(tar_of([member("etc/a\x1b[2Jb"), member("../bad\x1b[2J")]))
    assert list(found) == ["/etc/a\x1b[2Jb"]
    assert all(finding.text.isprintable() for finding in capture.findings)


@given(
    st.from_regex(rb"/etc/[^\0/]{1,60}", fullmatch=True).filter(
        lambda raw: raw[5:] not in (b".", b"..")
    ),
    st.integers(0, 0o7777),
    st.integers(0, 2**31),
)
def test_a_head_written_for_a_target_reads_back_as_the_same_document(
    raw: bytes, mode: int, modified: int
) -> None:
    document = Document(
        path=raw.decode("utf-8", "replace"),
        raw_path=base64.b64encode(raw).decode(),
        type="file",
        mode=mode,
        uid=1001,
        gid=1002,
        modified=modified,
        size=0,
    )
    with tarfile.open(
        fileobj=io.BytesIO(tar_head(document) + bytes(1024)), encoding="utf-8"
    ) as archive:
        [info] = archive.getmembers()
    assert os.fsencode(info.name) == raw.lstrip(b"/")
    assert (info.mode, info.uid, info.gid, info.mtime) == (mode, 1001, 1002, modified)


def head(name: str, **fields: object) -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    for field, value in fields.items():
        setattr(info, field, value)
    return info


async def test_short_members_come_whole_and_long_ones_in_blocks() -> None:
    data = tar_of([(head("etc/short"), b"x" * 1000), (head("etc/long"), b"y" * 700_000)])
    items = [item async for item in members(in_pieces(data, 10_000))]
    assert [item.whole for item in items if isinstance(item, Member)] == [b"x" * 1000, None]
    assert b"".join(item for item in items if isinstance(item, bytes)) == b"y" * 700_000


@pytest.mark.parametrize("lie", ["negative", "holes"])
async def test_sizes_that_cannot_be_are_damage(lie: str) -> None:
    if lie == "negative":
        data = head("etc/a", size=-512).tobuf(tarfile.GNU_FORMAT)
    else:
        data = head(
            "etc/a", size=512, pax_headers={"GNU.sparse.map": "0,1", "GNU.sparse.size": "9"}
        ).tobuf(tarfile.PAX_FORMAT)
    with pytest.raises(Damaged):
        await read_all(in_pieces(data + bytes(4096), 512))


async def test_a_file_from_before_1970_keeps_its_time_and_a_name_that_may_be_cut_is_not_kept() -> (
    None
):
    infos = [
        head("etc/old", mtime=-86_400, uname="root", gname="g" * 40),
        head("etc/at-the-limit", uname="u" * 32),
    ]
    capture = Capture(LINUX, {}, Machine(id="m", product="debian", version="12"))
    stream = b"".join(info.tobuf(tarfile.GNU_FORMAT) for info in infos) + bytes(1024)
    old, other = [
        found.document async for found in read_documents(LyingShell(stream), capture, ["settings"])
    ]
    assert (old.modified, old.owner, old.group) == (-86_400, "root", None)
    assert (other.owner, other.uid) == (None, 0)
