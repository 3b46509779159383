"""Reading a live system: its documents, part by part, as its kind says. Stores nothing."""

from __future__ import annotations

import posixpath
from collections.abc import AsyncGenerator
from contextlib import aclosing, nullcontext
from glob import escape
from itertools import groupby
from urllib.parse import quote

import anyio

from fennox.core.compare.sensitive import without_secrets
from fennox.core.errors import FarSideFailed, PartUnread
from fennox.core.format.manifest import Document
from fennox.core.format.primitives.digest import Digest
from fennox.core.kinds import expressions
from fennox.core.kinds.actions import Ask
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import MAX_EVIDENCE, filled, fitting
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.sources import PartModel, Source
from fennox.core.names import document_name, printable
from fennox.engine.reading.capture import Capture, Captured, once, shell_of, watched, web_of
from fennox.engine.reading.far_files import read_files, surveyed
from fennox.engine.reading.file_survey import Survey
from fennox.engine.reading.inquiry import Inquiry, Key, Spoken, inquiring, next_block
from fennox.engine.reading.pushed import read_pushed
from fennox.engine.reading.requests import asked, names_asked
from fennox.links.base import Link, Output, Shell, Web

_LIMIT = 600  # seconds
_MAX_NAMES = 10_000  # that a listing command may give


_Keyed = tuple[Key, PartModel, Source]


async def read_documents(
    link: Link | None, capture: Capture, parts: list[str], inquiry: Inquiry | None = None
) -> AsyncGenerator[Captured, None]:
    """Every document of the chosen parts. Each content must be read before requesting the next.
    ``inquiry``: answers already at hand; outputs of programs come first.
    """
    asking = inquiring(
        link, capture.kind, capture.settings, parts, stamps=capture.trust is not None
    )
    async with asking if inquiry is None else nullcontext(inquiry) as answers:
        async for spoken in answers.spoken():
            yield _output(capture, spoken)
    sources = [
        ((part.name, at), part, source)
        for part in map(capture.kind.part_named, parts)
        for at, source in enumerate(part.source)
        if (part.name, at) not in answers.outputs
    ]
    for (files, named), grouped in groupby(sources, _sort_of_reading):
        group = list(grouped)
        if named:
            group = await _named(capture, group)
        reading = (
            _read_files(link, capture, group, answers.surveys)
            if files
            else _read_others(link, capture, group)
        )
        async with aclosing(reading) as documents:
            async for captured in documents:
                yield captured


def _sort_of_reading(keyed: _Keyed) -> tuple[bool, bool]:
    _, _, source = keyed
    return source.files is not None, source.named_by is not None


async def _named(capture: Capture, group: list[_Keyed]) -> list[_Keyed]:
    """These sources with the paths that documents name; those without any are left out."""
    found: list[_Keyed] = []
    for key, part, source in group:
        assert source.named_by is not None
        drawn = await anyio.to_thread.run_sync(
            expressions.values, source.named_by, capture.evidence
        )
        fits = fitting(source.files or [])
        # a path with dots would pass by the patterns, and by what other parts leave out
        plain = [path for path in dict.fromkeys(drawn) if posixpath.normpath(path) == path]
        paths = [escape(path) for path in plain if fits(path)]
        if paths:
            found.append((key, part, source.model_copy(update={"files": paths})))
    return found


def _output(capture: Capture, spoken: Spoken) -> Captured:
    part = capture.kind.part_named(spoken.key[0])
    source = part.source[spoken.key[1]]
    assert source.document is not None
    document = Document(path=source.document, type="output", secret=source.secret)
    if spoken.ended is None:
        return watched(capture, part, source, document, _long(capture, part, source, spoken))
    _end(capture, part, source, spoken)
    return watched(capture, part, source, document, spoken.start)


async def _long(
    capture: Capture, part: PartModel, source: Source, spoken: Spoken
) -> AsyncGenerator[bytes, None]:
    async with aclosing(spoken.blocks()) as blocks:
        async for block in blocks:
            yield block
    _end(capture, part, source, spoken)


def _end(capture: Capture, part: PartModel, source: Source, spoken: Spoken) -> None:
    assert spoken.ended is not None
    _check(part, spoken.asked.words[0], spoken.ended, source.codes)
    capture.heard(spoken.asked.words[0], without_secrets(spoken.ended.errors))


async def _read_files(
    link: Link | None, capture: Capture, group: list[_Keyed], surveys: dict[Key, Survey]
) -> AsyncGenerator[Captured, None]:
    lacking = [(key, source) for key, _, source in group if key not in surveys]
    found = (
        await surveyed(await shell_of(link), capture, [source for _, source in lacking])
        if lacking
        else []
    )
    there = {**surveys, **{key: survey for (key, _), survey in zip(lacking, found, strict=True)}}
    wanted = [(part, source, there[key]) for key, part, source in group]
    async with aclosing(read_files(await shell_of(link), capture, wanted)) as documents:
        async for captured in documents:
            yield captured


async def _read_others(
    link: Link | None, capture: Capture, group: list[_Keyed]
) -> AsyncGenerator[Captured, None]:
    for _, part, source in group:
        async with aclosing(_read_source(link, capture, part, source)) as documents:
            async for captured in documents:
                yield captured


async def _read_source(
    link: Link | None, capture: Capture, part: PartModel, source: Source
) -> AsyncGenerator[Captured, None]:
    if source.push is not None:
        async with aclosing(read_pushed(link, capture, part, source)) as pushed:
            async for captured in pushed:
                yield captured
        return
    assert source.document is not None
    if source.hand is not None:
        if (given := capture.handed_in.get(source.document)) is not None:
            document = Document(path=source.document, type="output", secret=source.secret)
            yield watched(capture, part, source, document, once(given))
        return
    if source.setting is not None:
        if link is not None and (kept := link.secrets.get(source.setting)) is not None:
            document = Document(path=source.document, type="output", secret=True)
            yield watched(capture, part, source, document, once(kept.encode()))
        return
    values = values_of(capture.kind, capture.settings)
    if source.run is None:
        assert source.ask is not None
        async for name in _names_asked(await web_of(link), part, source.ask, values):
            path = filled(source.document, {**values, "each": document_name(name)})
            document = Document(path=path, type="output", secret=source.secret)
            filling = {**values, "each": quote(name, safe="")} if name else values
            yield watched(
                capture, part, source, document, asked(await web_of(link), source.ask, filling)
            )
        return
    async for name in _names(await shell_of(link), part, source, values):
        filling = {**values, "each": name} if source.each is not None else values
        words = command(source.run, filling, told=("each",))
        content = _streamed(await shell_of(link), capture, part, words, source.codes)
        path = filled(source.document, {**values, "each": document_name(name)})
        yield watched(
            capture, part, source, Document(path=path, type="output", secret=source.secret), content
        )


async def _names_asked(
    web: Web, part: PartModel, ask: Ask, values: dict[str, str]
) -> AsyncGenerator[str, None]:
    """The names that all of it is repeated for; an empty one where it is done once."""
    if ask.each is None:
        yield ""
        return
    names = await names_asked(web, ask.each, values)
    if len(names) > _MAX_NAMES:
        raise FarSideFailed(
            f"{ask.each.request.path} for the part {part.name} lists {len(names)} names.",
            "Narrow it down.",
        )
    for name in names:
        yield name


async def hashed(captured: Captured, kept: bytearray | None = None) -> Document:
    """Read a document's content to its end. Returns size and digest. ``kept``: gets the content,
    as far as expressions may read it.
    """
    digest, size = Digest(), 0
    async for block in captured.content:
        digest.update(block)
        size += len(block)
        if kept is not None and size <= MAX_EVIDENCE:
            kept += block
    if captured.document.type not in ("file", "output"):
        return captured.document
    return captured.document.model_copy(update={"digest": digest.hexdigest(), "size": size})


async def _names(
    shell: Shell, part: PartModel, source: Source, values: dict[str, str]
) -> AsyncGenerator[str, None]:
    """The names ``run`` is repeated for; in document names special characters are percent-encoded
    (``%2F``).
    """
    if source.each is None:
        yield ""
        return
    output = await shell.run(command(source.each, values), limit=_LIMIT)
    _check(part, source.each[0], output, source.codes)
    names = output.output.decode("utf-8", "replace").splitlines()
    if len(names) > _MAX_NAMES:
        raise FarSideFailed(
            f"{source.each[0]} for the part {part.name} lists {len(names)} names.",
            "Narrow it down.",
        )
    for name in dict.fromkeys(name for name in names if name.strip()):
        yield name


async def _streamed(
    shell: Shell, capture: Capture, part: PartModel, words: list[str], codes: list[int]
) -> AsyncGenerator[bytes, None]:
    """A command's output as it arrives. Raises at the end if the command failed."""
    async with shell.stream(words) as running, aclosing(running.blocks()) as blocks:
        while (
            block := await next_block(blocks, f"{words[0]} for the part {part.name}")
        ) is not None:
            yield block
        done = await running.ended()
        _check(part, words[0], done, codes)
        capture.heard(words[0], without_secrets(done.errors))


def _check(part: PartModel, command: str, output: Output, codes: list[int]) -> None:
    if output.code not in codes:
        told = printable(without_secrets(output.errors[:300]))
        raise PartUnread(
            part.name,
            f"{command} for the part {part.name} ended with {output.code}: {told}",
            "Check the machine and the login's permissions.",
        )
