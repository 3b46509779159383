"""Reading a live system by a kind without keeping anything: what a backup would hold, count and
lack.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import aclosing
from dataclasses import dataclass

from fennox.core.evidence.evaluation import Census
from fennox.core.format.manifest import Certificate, Document, Finding, Machine
from fennox.core.kinds.expressions import fits_some
from fennox.core.kinds.filling import placed_patterns
from fennox.core.kinds.model import Kind
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading.capture import Capture, identify
from fennox.engine.reading.documents import read_documents
from fennox.links.base import Link


@dataclass(frozen=True)
class Tried:
    """The result of a trial. ``documents``: by part, with their sizes; ``said``: the machine's
    expected identity afterwards. ``unmatched``: patterns of rules that match no document, with
    their paths.
    """

    machine: Machine
    documents: dict[str, list[Document]]
    census: Census
    findings: list[Finding]
    left_out: list[str]
    certificates: list[Certificate]
    said: dict[str, str]
    content: bytes | None
    unmatched: list[str]


async def try_kind(
    kind: Kind,
    link: Link,
    settings: dict[str, str],
    parts: list[str],
    show: str,
    evaluates: Evaluates,
    told: Callable[[str], None],
) -> Tried:
    """Read everything once. ``show``: path of a document whose content is wanted; ``told`` is
    called for each part.
    """
    capture = Capture(kind, settings, await identify(kind, link, settings))
    documents: dict[str, dict[str, Document]] = {name: {} for name in parts}
    content: bytes | None = None
    part = ""
    async with aclosing(read_documents(link, capture, parts)) as found:
        async for captured in found:
            if captured.part != part:
                part = captured.part
                told(part)
            size, kept = 0, bytearray()
            async for block in captured.content:
                size += len(block)
                if captured.document.path == show:
                    kept += block
            if captured.document.path == show:
                content = bytes(kept)
            documents[captured.part][captured.document.path] = captured.document.model_copy(
                update={"size": size}
            )
    read = await capture.told(parts, evaluates)
    return Tried(
        machine=capture.machine,
        documents={name: list(held.values()) for name, held in documents.items()},
        census=read.census,
        findings=read.findings,
        left_out=[*kind.left_out, *capture.not_taken()],
        certificates=read.certificates,
        said=read.expected,
        content=content,
        unmatched=_unmatched(capture, parts),
    )


def _unmatched(capture: Capture, parts: list[str]) -> list[str]:
    """Rules that match no document: wrong patterns would leave secrets visible and lists empty."""
    paths = sorted(capture.evidence.paths)
    found = []
    for path, texts, _ in placed_patterns(capture.kind):
        if path[0] == "part" and capture.kind.part[int(path[1])].name not in parts:
            continue
        where = ".".join(str(step) for step in path if not isinstance(step, int) and step != "in")
        found += [f"{text} ({where})" for text in texts if not fits_some(text, paths)]
    return list(dict.fromkeys(found))
