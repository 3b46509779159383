"""From a document's bytes to a structure of JSON values, so that it can be compared by object and
value.

Documents come from a far side and are not trusted: no entities, no unbounded aliases, no unbounded
structures. A document that cannot be parsed by its name is compared as text; one that is not text
is only equal or not.
"""

from __future__ import annotations

import base64
import configparser
import csv
import datetime
import io
import json
import math
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import yaml
from lxml import etree

from fennox.core.kinds.expressions import ini_sections, wanted
from fennox.core.kinds.literals import Shape
from fennox.core.kinds.model import Kind
from fennox.core.kinds.rules import Format

MAX_SHOWN = 16 * 1024 * 1024  # bytes; longer documents are only compared for equality
_MAX_NODES = 200_000
_MAX_DEPTH = 100
_MAX_ALIASES = 200
_BY_ENDING: dict[str, Shape] = {
    ".json": "json",
    ".xml": "xml",
    ".toml": "toml",
    ".yaml": "yaml",
    ".yml": "yaml",
    ".csv": "csv",
    ".ini": "ini",
    ".service": "ini",
    ".timer": "ini",
    ".socket": "ini",
    ".mount": "ini",
    ".network": "ini",
    ".zone": "zone",
    ".ldif": "ldif",
}


@dataclass(frozen=True)
class Structured:
    """A parsed document: ``value`` for a structure, ``text`` for any text."""

    shape: Shape
    value: Any = None
    text: str = ""


def format_of(kind: Kind, path: str) -> Format | None:
    return next((item for item in kind.formats if wanted([item.in_], path)), None)


def shape_of(kind: Kind, path: str) -> Shape:
    known = format_of(kind, path)
    if known is not None:
        return known.is_
    name = path.rsplit("/", 1)[-1]
    return next((shape for ending, shape in _BY_ENDING.items() if name.endswith(ending)), "text")


def read(kind: Kind, path: str, content: bytes) -> Structured:
    """Read a document as its kind or its name says, else as text, else as bytes."""
    shape = shape_of(kind, path)
    if shape == "bytes" or len(content) > MAX_SHOWN or b"\0" in content:
        return Structured("bytes")
    try:
        text = content.decode("utf-8")
    except UnicodeDecodeError:
        return Structured("bytes")
    if shape == "text":
        return Structured("text", text=text)
    try:
        value = _bounded(_READERS[shape](text))
    except (
        ValueError,
        RecursionError,
        OverflowError,
        etree.LxmlError,
        yaml.YAMLError,
        csv.Error,
        configparser.Error,
    ):
        return Structured("text", text=text)
    return Structured(shape, value, text)


def _bounded(value: Any) -> Any:
    """JSON values only, of bounded size; anything else is a :class:`ValueError`."""
    count = 0

    def plain(item: Any, depth: int) -> Any:
        nonlocal count
        count += 1
        if count > _MAX_NODES or depth > _MAX_DEPTH:
            raise ValueError("too large")
        if isinstance(item, dict):
            return {plain(str(key), depth): plain(inner, depth + 1) for key, inner in item.items()}
        if isinstance(item, list | tuple | set):
            return [plain(inner, depth + 1) for inner in item]
        if isinstance(item, datetime.date | datetime.time):
            return item.isoformat()
        if isinstance(item, float) and not math.isfinite(item):
            return str(item)  # NaN: not in JSON, and unequal to itself
        if item is None or isinstance(item, bool | int | float):
            return item
        return str(item).encode("utf-8", "backslashreplace").decode()

    return plain(value, 0)


def _yaml(text: str) -> Any:
    aliases = 0
    for event in yaml.parse(text, Loader=yaml.SafeLoader):
        aliases += isinstance(event, yaml.AliasEvent)
        if aliases > _MAX_ALIASES:
            raise ValueError("too many aliases")
    documents = list(yaml.safe_load_all(text))
    return documents[0] if len(documents) == 1 else documents


def _xml(text: str) -> Any:
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        huge_tree=False,
        load_dtd=False,
        remove_comments=True,
        remove_pis=True,
    )
    root = etree.fromstring(text.encode("utf-8"), parser)
    return {_tag(root): _element(root, 0)}


def _tag(element: Any) -> str:
    if not isinstance(element.tag, str):
        raise ValueError("an entity")
    return str(element.tag)


def _element(element: Any, depth: int) -> Any:
    """Attributes as ``@name``, text as ``#text``, children by tag: one as it is, several as a
    list.
    """
    if depth > _MAX_DEPTH:
        raise ValueError("too deep")
    found: dict[str, object] = {f"@{name}": value for name, value in element.attrib.items()}
    children: dict[str, list[Any]] = {}
    for child in element:
        children.setdefault(_tag(child), []).append(_element(child, depth + 1))
    found |= {tag: items[0] if len(items) == 1 else items for tag, items in children.items()}
    text = (element.text or "").strip()
    if not found:
        return text
    return {**found, "#text": text} if text else found


def _csv(text: str) -> Any:
    """Rows as objects keyed by the first row's titles, or as lists if rows differ in length."""
    rows = list(csv.reader(io.StringIO(text)))
    if (
        len(rows) > 1
        and all(len(row) == len(rows[0]) for row in rows)
        and len(set(rows[0])) == len(rows[0])
    ):
        return [dict(zip(rows[0], row, strict=True)) for row in rows[1:]]
    return rows


def _zone(text: str) -> Any:
    from fennox.core.compare import zones  # rarely needed, and 3 MB

    return zones.read(text)


def _ldif(text: str) -> Any:
    """Entries by their names, each attribute with its values, sorted (RFC 2849); values that are no
    text in base64.
    """
    import ldif  # it loads an HTTP client, and is rarely needed

    found: dict[str, dict[str, list[str]]] = {}
    parser = ldif.LDIFParser(io.BytesIO(text.encode("utf-8")), encoding=None)
    for name, entry in parser.parse():
        values = {
            attribute: sorted(_ldif_value(value) for value in listed)
            for attribute, listed in entry.items()
        }
        found[name.decode("utf-8") if isinstance(name, bytes) else name] = values
    return found


def _ldif_value(value: bytes | str) -> str:
    if isinstance(value, str):
        return value
    try:
        return value.decode("utf-8")
    except UnicodeDecodeError:
        return base64.b64encode(value).decode()


_READERS: dict[Shape, Callable[[str], Any]] = {
    "json": json.loads,
    "toml": tomllib.loads,
    "yaml": _yaml,
    "xml": _xml,
    "ini": ini_sections,
    "csv": _csv,
    "zone": _zone,
    "ldif": _ldif,
}
