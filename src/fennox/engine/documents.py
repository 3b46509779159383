"""Reading a live system: its documents, part by part, as its kind says. Stores nothing."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator
from contextlib import aclosing
from itertools import groupby
from urllib.parse import quote

from fennox.core.errors import FarSideFailed
from fennox.core.format.digest import Digest
from fennox.core.format.manifest import Document
from fennox.core.kinds.expressions import filled
from fennox.core.kinds.sources import PartModel, Source
from fennox.engine.asking import asked
from fennox.engine.capture import Capture, Captured, once, shell_of, values_of, watched, web_of
from fennox.engine.farfiles import read_files, surveyed
from fennox.links.base import Link, Output, Shell

_SILENCE = 600  # seconds that a command may write nothing
_MAX_NAMES = 10_000  # that a listing command may give


async def read_documents(link: Link | None, capture: Capture, parts: list[str]) -> AsyncGenerator[Captured, None]:
    """Every document of the chosen parts. Each document's content must be read before the next is asked for."""
    sources = ((part, source) for part in map(capture.kind.part_named, parts) for source in part.source)
    for files, grouped in groupby(sources, lambda pair: pair[1].files is not None):
        group = list(grouped)
        reading = _read_files(link, capture, group) if files else _read_others(link, capture, group)
        async with aclosing(reading) as documents:
            async for captured in documents:
                yield captured


async def _read_files(
    link: Link | None, capture: Capture, group: list[tuple[PartModel, Source]]
) -> AsyncGenerator[Captured, None]:
    surveys = await surveyed(shell_of(link), capture, [source for _, source in group])
    for (part, source), there in zip(group, surveys, strict=True):
        async with aclosing(read_files(shell_of(link), capture, part, source, there)) as documents:
            async for captured in documents:
                yield captured


async def _read_others(
    link: Link | None, capture: Capture, group: list[tuple[PartModel, Source]]
) -> AsyncGenerator[Captured, None]:
    for part, source in group:
        async with aclosing(_read_source(link, capture, part, source)) as documents:
            async for captured in documents:
                yield captured


async def _read_source(
    link: Link | None, capture: Capture, part: PartModel, source: Source
) -> AsyncGenerator[Captured, None]:
    assert source.document is not None
    if source.hand is not None:
        if (given := capture.handed_in.get(source.document)) is not None:
            document = Document(path=source.document, type="output", secret=source.secret)
            yield watched(capture, part, source, document, once(given))
        return
    values = values_of(capture.kind, capture.settings)
    if source.run is None:
        assert source.ask is not None
        document = Document(path=source.document, type="output", secret=source.secret)
        yield watched(capture, part, source, document, asked(web_of(link), source.ask, values))
        return
    async for name in _names(shell_of(link), part, source, values):
        filling = {**values, "each": name} if source.each is not None else values
        words = [filled(word, filling) for word in source.run]
        content = _streamed(shell_of(link), capture, part, words, source.codes)
        path = filled(source.document, {**values, "each": document_name(name)})
        yield watched(capture, part, source, Document(path=path, type="output", secret=source.secret), content)


async def hashed(captured: Captured) -> Document:
    """Read a document's content to its end, keep nothing of it, and tell its size and digest."""
    digest, size = Digest(), 0
    async for block in captured.content:
        digest.update(block)
        size += len(block)
    if captured.document.type not in ("file", "output"):
        return captured.document
    return captured.document.model_copy(update={"digest": digest.hexdigest(), "size": size})


def document_name(name: str) -> str:
    """A listed name as a part of a document's name."""
    return quote(name, safe=" @:+=,")


async def _names(shell: Shell, part: PartModel, source: Source, values: dict[str, str]) -> AsyncGenerator[str, None]:
    """What ``run`` is repeated for; a name becomes part of a document's name with its odd characters as ``%2F``."""
    if source.each is None:
        yield ""
        return
    output = await shell.run([filled(word, values) for word in source.each], limit=_SILENCE)
    _check(part, source.each[0], output, source.codes)
    names = output.output.decode("utf-8", "replace").splitlines()
    if len(names) > _MAX_NAMES:
        raise FarSideFailed(f"{source.each[0]} for the part {part.name} lists {len(names)} names.", "Narrow it down.")
    for name in dict.fromkeys(name for name in names if name.strip()):
        yield name


async def _streamed(
    shell: Shell, capture: Capture, part: PartModel, words: list[str], codes: list[int]
) -> AsyncGenerator[bytes, None]:
    """A command's output as it comes; how it ended is known, and told, at its end."""
    async with shell.stream(words) as running, aclosing(running.blocks()) as blocks:
        while True:
            try:
                block = await asyncio.wait_for(anext(blocks, None), _SILENCE)
            except TimeoutError as error:
                text = f"{words[0]} for the part {part.name} wrote nothing for {_SILENCE} seconds."
                raise FarSideFailed(text, "Look at the machine.") from error
            if block is None:
                break
            yield block
        done = await running.ended()
        _check(part, words[0], done, codes)
        capture.heard(words[0], done.errors)


def _check(part: PartModel, command: str, output: Output, codes: list[int]) -> None:
    if output.code not in codes:
        raise FarSideFailed(
            f"{command} for the part {part.name} ended with {output.code}: {output.errors[:300]}",
            "Look at the machine, and at what the login may do.",
        )
