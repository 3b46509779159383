"""A look at a live system: whether it still equals its last backup, judged by digests. Stores
nothing. The digests are keyed, so a thief of them learns neither names nor contents.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextlib import aclosing
from dataclasses import dataclass

from fennox.core.compare.documents import named_by
from fennox.core.format.manifest import Document
from fennox.core.format.primitives.secret import WriteSecret
from fennox.core.kinds.model import Kind
from fennox.core.names import printable
from fennox.core.words import first_few
from fennox.engine.backups.backup_reader import digest_of
from fennox.engine.journal import Journal
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading.capture import Capture
from fennox.engine.reading.documents import hashed, read_documents
from fennox.links.base import Link

State = dict[str, dict[str, str]]
"""Part → keyed digest of a path → keyed digest of what the document is."""
Plain = dict[str, dict[str, str]]
"""Part → path → a text that differs if the document differs in more than noise."""

_NAMED = 5  # paths listed in a note


@dataclass(frozen=True)
class Difference:
    """New and changed paths; of removed ones only the number."""

    new: list[str]
    changed: list[str]
    gone: int

    def __bool__(self) -> bool:
        return bool(self.new or self.changed or self.gone)

    def counted(self) -> dict[str, int]:
        """Numbers of documents ``changed``, ``new`` and ``gone``."""
        return {"changed": len(self.changed), "new": len(self.new), "gone": self.gone}

    def __str__(self) -> str:
        told = [
            f"{word} {first_few([printable(path) for path in paths], _NAMED)}"
            for word, paths in (("changed", self.changed), ("new", self.new))
            if paths
        ]
        if self.gone:
            told.append(f"{self.gone} gone")
        return "; ".join(told)


async def plain_of(
    capture: Capture,
    documents: dict[str, list[Document]],
    evaluates: Evaluates,
    *,
    with_secrets: bool,
) -> Plain:
    """``with_secrets``: False in custody ``apart``, so that nobody can test a guess of them
    (store-format §4.3).
    """
    quiet = await evaluates.quiet_digests(capture.kind, capture.noisy)
    return {
        part: {
            named_by(capture.kind, document.path): _told(capture.kind, quiet, document)
            for document in listed
            if (with_secrets or not document.secret) and document.path not in capture.moved
        }
        for part, listed in documents.items()
    }


def _told(kind: Kind, quiet: Mapping[str, str], document: Document) -> str:
    if named_by(kind, document.path) != document.path:
        return "one of its name"
    return _text(quiet.get(document.path), document)


def _text(quiet: str | None, document: Document) -> str:
    return digest_of(document if quiet is None else document.model_copy(update={"digest": quiet}))


def blinded(plain: Plain, secret: WriteSecret) -> State:
    def key(text: str) -> str:
        return secret.keyed_digest(text.encode("utf-8", "surrogateescape")).hex()[:32]

    return {
        part: {key(path): key(f"{path}|{text}") for path, text in texts.items()}
        for part, texts in plain.items()
    }


def difference(before: State, now: Plain, secret: WriteSecret) -> Difference:
    """Compares the parts both have."""
    new, changed, gone = [], [], 0
    for part, texts in now.items():
        if part not in before:
            continue
        known, seen = before[part], blinded({part: texts}, secret)[part]
        gone += len(known.keys() - seen.keys())
        for path, (name, what) in zip(texts, seen.items(), strict=True):
            if name not in known:
                new.append(path)
            elif known[name] != what:
                changed.append(path)
    return Difference(sorted(new), sorted(changed), gone)


async def look(
    link: Link,
    capture: Capture,
    parts: Iterable[str],
    journal: Journal,
    evaluates: Evaluates,
    *,
    with_secrets: bool,
) -> Plain:
    """Read the parts as they are now."""
    documents: dict[str, list[Document]] = {part: [] for part in parts}
    count = total = 0
    async with aclosing(read_documents(link, capture, list(documents))) as found:
        async for captured in found:
            document = await hashed(captured)
            documents[captured.part].append(document)
            count, total = count + 1, total + document.size
            await journal.progress(documents=count, bytes=total)
    return await plain_of(capture, documents, evaluates, with_secrets=with_secrets)
