"""Reading files with the machine's own tar: all of them, or only changed ones."""

from __future__ import annotations

import os
import re
from collections.abc import AsyncGenerator, AsyncIterator, Callable, Sequence
from contextlib import aclosing
from dataclasses import dataclass, field

from fennox.core.compare.documents import is_noisy
from fennox.core.compare.sensitive import without_secrets
from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import Document
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import fitting, wanted
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.sources import PartModel, Source
from fennox.engine.reading import over_sftp
from fennox.engine.reading.capture import Capture, Captured, once, watched
from fennox.engine.reading.document_heads import document_of
from fennox.engine.reading.file_stamps import nul_separated, same
from fennox.engine.reading.file_survey import (
    Places,
    Survey,
    SurveyLook,
    outermost,
    places_of,
    unsettled,
)
from fennox.engine.reading.tar_stream import Member, members
from fennox.links.base import Shell

_LIMIT = 600  # seconds
_MOVED = re.compile(
    r"tar: (\S.*?): (?:[Ff]ile (?:changed|removed|shrank)|Cannot (?:stat|open): No such file)"
)


async def surveyed(shell: Shell, capture: Capture, sources: Sequence[Source]) -> list[Survey]:
    """Locate the files of the sources about to be read."""
    values = values_of(capture.kind, capture.settings)
    each = [places_of(capture.kind, source, values) for source in sources]
    return await _survey(shell, Places(each), stamps=capture.trust is not None)


async def _survey(shell: Shell, places: Places, *, stamps: bool) -> list[Survey]:
    if shell.language != "posix":
        return [Survey(listed) for listed in places.each]
    try:
        output = await shell.run(places.question(stamps=stamps), limit=_LIMIT)
    except FarSideFailed:
        if not stamps:
            raise
        # too many files for an in-memory list
        return await _survey(shell, places, stamps=False)
    return places.surveys(output.output, whole=output.code == 0)


def _patterns(capture: Capture, texts: list[str], values: dict[str, str]) -> list[str]:
    return expressions.patterns(texts, capture.kind.settings, values)


@dataclass
class _TarReading:
    """The files of one source to be read."""

    part: PartModel
    source: Source
    there: Survey
    patterns: list[str]
    without: list[str]
    seen: SurveyLook | None  # None: whatever tar finds below the roots
    over: dict[bytes, Document]  # what need not be read
    fits: Callable[[str], bool] = field(init=False)
    left_out: Callable[[str], bool] = field(init=False)
    # files to be read, in the order of the machine's find
    names: list[bytes] = field(init=False)

    def __post_init__(self) -> None:
        self.fits, self.left_out = fitting(self.patterns), fitting(self.without)
        seen = self.seen.types if self.seen is not None else ()
        # non-UTF-8 names are checked again on arrival
        self.names = [
            p
            for p in seen
            if p not in self.over and (self.takes(os.fsdecode(p)) or not _is_text(p))
        ]

    def takes(self, path: str) -> bool:
        return self.fits(path) and not self.left_out(path)


async def read_files(
    shell: Shell,
    capture: Capture,
    sources: Sequence[tuple[PartModel, Source, Survey]],
    *,
    again: bool = False,
) -> AsyncGenerator[Captured, None]:
    """Files from the far side's tar, one tar for all sources without a common file. Files that
    changed during reading are read ``again``, once; a second document replaces the first.
    """
    readings = []
    for part, source, there in sources:
        reading = _reading(capture, part, source, there)
        capture.left_out += reading.without
        if reading.patterns and not there.has_tar:  # otherwise a setting names no path
            read = over_sftp.read_files(
                shell, capture, part, source, reading.patterns, reading.without, there.places
            )
            async with aclosing(read) as documents:
                async for captured in documents:
                    yield captured
        elif reading.patterns and there.roots:
            readings.append(reading)
        elif reading.patterns and not again:
            capture.found_nothing(part.name, reading.patterns)
    for batch in _batches(readings):
        async with aclosing(_read(shell, capture, batch, again=again)) as documents:
            async for captured in documents:
                yield captured


def _reading(capture: Capture, part: PartModel, source: Source, there: Survey) -> _TarReading:
    values = values_of(capture.kind, capture.settings)
    patterns = _patterns(capture, source.files or [], values)
    without = _patterns(capture, source.without, values)
    seen = there.look if capture.trust is not None else None
    return _TarReading(
        part,
        source,
        there,
        patterns,
        without,
        seen,
        _taken_over(capture, part, patterns, without, seen),
    )


def _batches(readings: list[_TarReading]) -> list[list[_TarReading]]:
    """Groups of sources one tar can read: files are known, and none is in two sources."""
    batches: list[tuple[list[_TarReading], set[bytes]]] = []
    for reading in readings:
        names = set(reading.names)
        last = batches[-1] if batches else None
        if (
            last is not None
            and reading.seen is not None
            and last[0][-1].seen is not None
            and not last[1] & names
        ):
            last[0].append(reading)
            last[1].update(names)
        else:
            batches.append(([reading], names))
    return [batch for batch, _ in batches]


async def _read(
    shell: Shell, capture: Capture, batch: list[_TarReading], *, again: bool
) -> AsyncGenerator[Captured, None]:
    for reading in batch:
        if reading.source.settled:
            capture.writing |= await unsettled(shell, reading.there.roots, reading.source.settled)
    words, feed = _tar(batch)
    async with shell.stream(words, feed=feed) as running:
        async with aclosing(members(running.blocks())) as items:
            async for captured in _documents(items, capture, batch):
                yield captured
        done = await running.ended()
    named = ", ".join(dict.fromkeys(reading.part.name for reading in batch))
    if done.code not in (0, 1) and batch[0].seen is not None:
        capture.trust = None  # a file disappeared since the listing: now read everything
        now = await surveyed(shell, capture, [reading.source for reading in batch])
        sources = [
            (reading.part, reading.source, there) for reading, there in zip(batch, now, strict=True)
        ]
        async with aclosing(read_files(shell, capture, sources)) as documents:
            async for captured in documents:
                yield captured
        return
    for reading in batch:
        for document in reading.over.values():
            capture.evidence.paths.add(document.path)
            capture.taken_over += 1
            yield Captured(reading.part.name, document, once(b""), document.secret, taken_over=True)
    if done.code not in (0, 1):
        raise FarSideFailed(
            f"tar for the part {named} ended with {done.code}:"
            f" {without_secrets(done.errors[:300])}",
            "Check what the login may read, or leave the named files out.",
        )
    if done.code == 0:
        capture.heard("tar", without_secrets(done.errors))
    moved = _moved_names(done.errors) if done.code == 1 and not again else []
    if moved:
        [now_there] = await _survey(shell, Places([outermost(moved)]), stamps=False)
        theirs = [reading for reading in batch if any(map(reading.takes, moved))]
        sources = [(reading.part, reading.source, now_there) for reading in theirs or batch]
        async with aclosing(read_files(shell, capture, sources, again=True)) as documents:
            async for captured in documents:
                yield captured
    elif done.code == 1:
        capture.moved.update(_moved_names(done.errors))
        capture.moved_twice(named, without_secrets(done.errors[:300]))


def _is_text(path: bytes) -> bool:
    try:
        path.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _moved_names(errors: str) -> list[str]:
    """Absolute paths that tar reported as changed or gone during reading."""
    return sorted({f"/{name.lstrip('/')}" for name in _MOVED.findall(errors)})


def _taken_over(
    capture: Capture,
    part: PartModel,
    patterns: list[str],
    without: list[str],
    seen: SurveyLook | None,
) -> dict[bytes, Document]:
    """Files that need not be read. Files the kind's expressions read are read every time."""
    if seen is None or capture.trust is None:
        return {}
    same_kind = capture.trust.same_kind
    found = same(capture.trust.known.get(part.name, {}), seen.stamps)
    return {
        path: document
        for path, document in found.items()
        if (not capture.interest.at(document.path) or (same_kind and document.evidence is False))
        and wanted(patterns, document.path)
        and not wanted(without, document.path)
        and not is_noisy(capture.kind, document.path)
    }


def _tar(batch: list[_TarReading]) -> tuple[list[str], AsyncIterator[bytes] | None]:
    """The far side's tar: over everything below the roots, or over the listed files that are not
    taken over.
    """
    # GNU's own format says all that is kept, before 1970 too, without a second head for every
    # fraction of a second
    words = ["tar", "-c", "-f", "-", "--format=gnu", "--hard-dereference"]
    [first, *_] = batch
    if first.seen is not None:
        names = nul_separated(path for reading in batch for path in reading.names)
        return [*words, "--no-recursion", "-C", "/", "--null", "-T", "-"], names
    # of `x/*` the folder x stays
    excluded = [f"--exclude={pattern.lstrip('/')}" for pattern in first.without]
    roots = [root.lstrip("/") or "." for root in first.there.roots]
    return [*words, "--anchored", *excluded, "-C", "/", "--", *roots], None


async def _documents(
    items: AsyncIterator[Member | bytes], capture: Capture, batch: list[_TarReading]
) -> AsyncGenerator[Captured, None]:
    ahead: list[Member | bytes] = []

    async def content() -> AsyncIterator[bytes]:
        async for item in items:
            if isinstance(item, Member):
                ahead.append(item)
                return
            yield item

    while True:
        item = ahead.pop() if ahead else await anext(items, None)
        if item is None:
            return
        if isinstance(item, bytes):
            continue  # skip the content of an excluded member
        document = document_of(item.info, capture)
        if document is None:
            continue
        reading = next((one for one in batch if one.takes(document.path)), None)
        if reading is None:
            continue
        if document.path in capture.writing:
            capture.still_written(document.path, reading.source.settled)
            continue
        if reading.seen is not None and document.type == "file":
            document = document.model_copy(
                update={"stamp": reading.seen.stamps.get(document.path_bytes())}
            )
        whole = item.whole if document.type == "file" else b""
        captured = watched(
            capture, reading.part, reading.source, document, content() if whole is None else whole
        )
        yield captured
        async for _ in captured.content:
            pass  # the part of the content not consumed by the reader
