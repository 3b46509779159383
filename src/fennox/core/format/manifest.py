"""The manifest: what a backup holds (§7). A head, and for each part one canonical JSON line a
document.
"""

from __future__ import annotations

import base64
from collections.abc import Iterable, Iterator
from typing import Annotated, Literal

from pydantic import ConfigDict, Field, ValidationError

from fennox.core.errors import Damaged
from fennox.core.format.primitives import canonical
from fennox.core.format.primitives.canonical import Stored
from fennox.core.format.trees import Root

DocumentType = Literal["file", "folder", "link", "output"]
Severity = Literal["blocker", "warning", "note"]


class ChunkKey(Stored):
    """One chunk of a document: id (hex), key (base64), plain length in bytes."""

    id: str
    key: Annotated[str, Field(repr=False)]
    length: int


class Document(Stored):
    """One file, folder, link or output. ``raw_path`` and ``raw_link`` (base64) are there only if
    not UTF-8.

    Fields stand in the order of the canonical form, so that they need not be sorted for every
    document.
    """

    chunks: list[ChunkKey] = []
    digest: str | None = None  # BLAKE2b-256 of the content, hex
    evidence: bool | None = None  # whether the kind's expressions read it; None: unknown (§7.4)
    gid: int | None = None
    group: str | None = None
    link: str | None = None
    mode: int | None = None
    modified: int | None = None  # seconds since 1970, UTC
    moved: bool = False  # it changed during reading, twice
    owner: str | None = None
    path: str
    raw_link: str | None = None
    raw_path: str | None = None
    secret: bool = False
    size: int = 0
    stamp: str | None = None  # inode, size, times: if these are equal, so is the content (§7.4)
    type: DocumentType
    uid: int | None = None

    def path_bytes(self) -> bytes:
        return base64.b64decode(self.raw_path) if self.raw_path else self.path.encode("utf-8")

    def link_bytes(self) -> bytes:
        return (
            base64.b64decode(self.raw_link) if self.raw_link else (self.link or "").encode("utf-8")
        )


class Machine(Stored):
    """The machine's own identity."""

    id: str
    product: str
    version: str
    build: str = ""
    platform: str = ""
    name: str = ""


class Reached(Stored):
    """Address and account used, and the host key or certificate the machine presented."""

    address: str
    account: str
    key: str


class Finding(Stored):
    """A finding as text. ``code`` and ``subject`` identify it. ``subject``: what it is about, such
    as a document or a part; None: at most one such finding exists.
    """

    severity: Severity
    code: str
    text: str
    remedy: str = ""
    subject: str | None = Field(default=None, exclude_if=lambda value: value is None)


class Certificate(Stored):
    """A certificate among the documents. ``until``: seconds since 1970, UTC."""

    document: str
    subject: str
    until: int


class Part(Stored):
    name: str
    title: str
    documents: int
    bytes: int
    root: Root


class PartHeld(Stored):
    """The size of a part in a backup, for lists."""

    name: str
    documents: int
    bytes: int


class KindFile(Stored):
    name: str
    version: int
    text: str  # including the kinds it builds on


class Head(Stored):
    """The manifest without the documents. Holds nothing that changes at every take (§7.1)."""

    format: Literal["fennox-manifest/1"] = "fennox-manifest/1"
    kind: KindFile
    settings: dict[str, str]
    machine: Machine
    reached: Reached
    parts: list[Part]
    census: dict[str, list[str]]
    # address, account, key expected after a restore, read from the captured documents
    expected: dict[str, str]
    findings: list[Finding]
    left_out: list[str]
    certificates: list[Certificate] = []
    routine: str | None
    fennox: str


class Sealed(Stored):
    """The sealed section of a record: the root of the manifest."""

    head: Root


def decode_head(data: bytes) -> Head:
    return canonical.load(Head, data, "manifest")


class Outline(Stored):
    """The fields of a head that locate its documents, and its lists with their rules. Other fields
    are skipped.
    """

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)

    kind: KindFile
    settings: dict[str, str]
    parts: list[Part]
    census: dict[str, list[str]]


def decode_outline(data: bytes) -> Outline:
    """A fast decoder for searches through many backups. A restore decodes the whole head."""
    try:
        return Outline.model_validate_json(data)
    except ValidationError as error:
        raise Damaged("A manifest's head cannot be read.", "Heal it from another copy.") from error


def encode_documents(documents: Iterable[Document]) -> Iterator[bytes]:
    for document in documents:
        yield _encoded(document) + b"\n"


def _encoded(document: Document) -> bytes:
    """The canonical form. Sorts only if there are unknown fields; otherwise takes half the time."""
    if document.model_extra or any(key.model_extra for key in document.chunks):
        return canonical.dump_value(document.model_dump(mode="json", exclude_defaults=True))
    return document.model_dump_json(exclude_defaults=True).encode()


def decode_document(line: bytes) -> Document:
    """There are many, so the library parses and validates in one pass."""
    try:
        return Document.model_validate_json(line)
    except ValidationError as error:
        raise Damaged("A manifest line cannot be read.", "Heal it from another copy.") from error
