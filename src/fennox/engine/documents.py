"""Reading a live system: its documents, part by part, as its kind says. Stores nothing."""

from __future__ import annotations

from collections.abc import AsyncGenerator
from contextlib import aclosing

from fennox.core.errors import FarSideFailed
from fennox.core.format.manifest import Document
from fennox.core.kinds.expressions import filled
from fennox.core.kinds.model import PartModel, Source
from fennox.engine.asking import asked
from fennox.engine.capture import Capture, Captured, once, shell_of, values_of, watched, web_of
from fennox.engine.farfiles import read_files
from fennox.links.base import Link


async def read_documents(link: Link, capture: Capture, parts: list[str]) -> AsyncGenerator[Captured, None]:
    """Every document of the chosen parts. Each document's content must be read before the next is asked for."""
    for part in (capture.kind.part_named(name) for name in parts):
        for source in part.source:
            async with aclosing(_read_source(link, capture, part, source)) as documents:
                async for captured in documents:
                    yield captured


async def _read_source(link: Link, capture: Capture, part: PartModel, source: Source) -> AsyncGenerator[Captured, None]:
    if source.files is not None:
        async with aclosing(read_files(shell_of(link), capture, part, source)) as documents:
            async for captured in documents:
                yield captured
        return
    assert source.document is not None
    values = values_of(capture.kind, capture.settings)
    if source.run is not None:
        output = await shell_of(link).run([filled(word, values) for word in source.run], limit=600)
        if output.code not in source.codes:
            raise FarSideFailed(
                f"{source.run[0]} for the part {part.name} ended with {output.code}: {output.errors[:300]}",
                "Look at the machine, and at what the login may do.",
            )
        content = once(output.output)
    else:
        assert source.ask is not None
        content = asked(web_of(link), source.ask, values)
    document = Document(path=source.document, type="output", secret=source.secret)
    yield watched(capture, part, source, document, content)
