"""Files of a machine by its own tar: all of them, or those that are not as they were."""

from __future__ import annotations

import os
import re
from collections.abc import AsyncGenerator, AsyncIterator, Mapping, Sequence
from contextlib import aclosing

from fennox.core.compare.documents import is_noisy
from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import Document
from fennox.core.kinds import expressions
from fennox.core.kinds.expressions import fitting, wanted
from fennox.core.kinds.sources import PartModel, Source
from fennox.engine import oversftp
from fennox.engine.capture import Capture, Captured, once, values_of, watched
from fennox.engine.heads import document_of
from fennox.engine.settling import unsettled
from fennox.engine.surveying import Look, Places, Survey, outermost, places_of
from fennox.engine.tarstream import Member, members
from fennox.engine.trusting import nul_separated, same
from fennox.links.base import Shell

_LIMIT = 600  # seconds
_MOVED = re.compile(r"tar: (\S.*?): (?:[Ff]ile (?:changed|removed|shrank)|Cannot (?:stat|open): No such file)")


async def surveyed(shell: Shell, capture: Capture, sources: Sequence[Source]) -> list[Survey]:
    """Where the files of sources lie that are about to be read."""
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
        return await _survey(shell, places, stamps=False)  # more files than a list can be kept in memory for
    return places.surveys(output.output, whole=output.code == 0)


def _patterns(capture: Capture, texts: list[str], values: dict[str, str]) -> list[str]:
    return expressions.patterns(texts, capture.kind.settings, values)


async def read_files(
    shell: Shell, capture: Capture, part: PartModel, source: Source, there: Survey, *, again: bool = False
) -> AsyncGenerator[Captured, None]:
    """Files by the far side's own tar; those that changed while they were read are read ``again``, once.

    A document that comes a second time takes the place of the first.
    """
    values = values_of(capture.kind, capture.settings)
    patterns = _patterns(capture, source.files or [], values)
    without = _patterns(capture, source.without, values)
    capture.left_out += without
    if not patterns:
        return  # a setting names no path
    if not there.has_tar:
        read = oversftp.read_files(shell, capture, part, source, patterns, without, there.places)
        async with aclosing(read) as documents:
            async for captured in documents:
                yield captured
        return
    roots = there.roots
    if not roots and again:
        return
    if not roots:
        capture.found_nothing(part.name, patterns)
        return
    seen = there.look if capture.trust is not None else None
    over = _taken_over(capture, part, patterns, without, seen)
    if source.settled:
        capture.writing |= await unsettled(shell, roots, source.settled)
    words, feed = _tar(roots, without, seen, over)
    async with shell.stream(words, feed=feed) as running:
        async with aclosing(members(running.blocks())) as items:
            async for captured in _documents(items, capture, part, source, patterns, without, seen):
                yield captured
        done = await running.ended()
    if done.code not in (0, 1) and seen is not None:
        capture.trust = None  # something went between the look and the reading: now everything is read
        [now] = await surveyed(shell, capture, [source])
        async with aclosing(read_files(shell, capture, part, source, now)) as documents:
            async for captured in documents:
                yield captured
        return
    for document in over.values():
        capture.evidence.paths.add(document.path)
        capture.taken_over += 1
        yield Captured(part.name, document, once(b""), document.secret, taken_over=True)
    if done.code not in (0, 1):
        raise FarSideFailed(
            f"tar for the part {part.name} ended with {done.code}: {done.errors[:300]}",
            "Check what the login may read, or leave the named files out.",
        )
    if done.code == 0:
        capture.heard("tar", done.errors)
    moved = _moved_names(done.errors) if done.code == 1 and not again else []
    if moved:
        [now] = await _survey(shell, Places([outermost(moved)]), stamps=False)
        async with aclosing(read_files(shell, capture, part, source, now, again=True)) as documents:
            async for captured in documents:
                yield captured
    elif done.code == 1:
        capture.moved.update(_moved_names(done.errors))
        capture.moved_twice(part.name, done.errors[:300])


def _moved_names(errors: str) -> list[str]:
    """What tar names as changed or gone while it was read, as absolute paths."""
    return sorted({f"/{name.lstrip('/')}" for name in _MOVED.findall(errors)})


def _taken_over(
    capture: Capture, part: PartModel, patterns: list[str], without: list[str], seen: Look | None
) -> dict[bytes, Document]:
    """What need not be read. What the kind's expressions look at is read every time."""
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


def _tar(
    roots: list[str], without: list[str], seen: Look | None, over: Mapping[bytes, Document]
) -> tuple[list[str], AsyncIterator[bytes] | None]:
    """The far side's tar: of everything below the roots, or of what was seen there and is not taken over."""
    # GNU's own format says all that is kept, before 1970 too, without a second head for every fraction of a second
    words = ["tar", "-c", "-f", "-", "--format=gnu", "--hard-dereference"]
    if seen is not None:
        names = [path for path in seen.types if path not in over and not wanted(without, os.fsdecode(path))]
        return [*words, "--no-recursion", "-C", "/", "--null", "-T", "-"], nul_separated(names)
    excluded = [f"--exclude={_tar_pattern(pattern)}" for pattern in without]
    return [*words, "--anchored", *excluded, "-C", "/", "--", *(root.lstrip("/") or "." for root in roots)], None


async def _documents(
    items: AsyncIterator[Member | bytes],
    capture: Capture,
    part: PartModel,
    source: Source,
    patterns: list[str],
    without: list[str],
    seen: Look | None,
) -> AsyncGenerator[Captured, None]:
    ahead: list[Member | bytes] = []
    fits, left_out = fitting(patterns), fitting(without)

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
            continue  # the content of a member that was left out
        document = document_of(item.info, capture)
        if document is None or not fits(document.path) or left_out(document.path):
            continue
        if document.path in capture.writing:
            capture.still_written(document.path, source.settled)
            continue
        if seen is not None and document.type == "file":
            document = document.model_copy(update={"stamp": seen.stamps.get(document.path_bytes())})
        whole = item.whole if document.type == "file" else b""
        captured = watched(capture, part, source, document, content() if whole is None else whole)
        yield captured
        async for _ in captured.content:
            pass  # what the reader of the document has not read


def _tar_pattern(pattern: str) -> str:
    return pattern.lstrip("/").removesuffix("/*") if pattern.endswith("/*") else pattern.lstrip("/")
