"""Finding values of the place in a document, and writing others in their place. Pure. Documents
come from a machine, so this runs in a process that can be killed.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any

import jsonpath_rfc9535
from lxml import etree

from fennox.core.kinds.rules import PlaceRows, PlaceRule
from fennox.core.kinds.sources import IniKey
from fennox.core.regexes import compiled

_WORD = re.compile(r"\S+")
_SECTION = re.compile(r"\s*\[([^\]]*)\]\s*\Z")
_INDENT = re.compile(r"^[\[{]\n( +)")


class PlaceUnreadable(ValueError):
    """The document cannot be read as the rule says, or not be written so."""


@dataclass(frozen=True)
class Located:
    """One value; ``key`` distinguishes several of a document. ``row``: all of a row."""

    key: str
    value: str
    row: str = ""


def located(rule: PlaceRule, content: bytes) -> list[Located]:
    """The values of a document, in order. Raises :class:`PlaceUnreadable`."""
    found: list[Located] = []

    def note(one: Located) -> str | None:
        found.append(one)
        return one.value

    _passed(rule, content, note, [])
    return found


def rewritten(
    rule: PlaceRule, content: bytes, after: Mapping[str, str | None], added: list[str]
) -> bytes:
    """The document with ``after`` (key → value) written; a row of None is left out, with a comment
    in its place. ``added``: rows to append. Raises :class:`PlaceUnreadable`.
    """
    return _passed(rule, content, lambda one: after.get(one.key, one.value), added)


Give = Callable[[Located], str | None]


def _passed(rule: PlaceRule, content: bytes, give: Give, added: list[str]) -> bytes:
    keyed = _keyed(give)
    if rule.jsonpath is not None:
        return _json(rule.jsonpath, content, keyed)
    if rule.xpath is not None:
        return _xml(rule.xpath, content, keyed)
    text = content.decode("utf-8", "surrogateescape")
    if rule.rows is not None:
        return _raw(_rows(rule.rows, text, give, added))
    if rule.ini is not None:
        return _raw(_lines(text, _ini_spans(rule.ini, text), keyed))
    if rule.ldif is not None:
        return _raw(_lines(text, _ldif_spans(rule.ldif, text), keyed))
    assert rule.regex is not None, "whole documents are not read"
    return _raw(compiled(rule.regex).replaced(text, keyed))


def _keyed(give: Give) -> Callable[[str], str]:
    """Values without keys of their own are numbered from the second on."""
    count = 0

    def next_value(value: str) -> str:
        nonlocal count
        count += 1
        new = give(Located("" if count == 1 else str(count), value))
        return value if new is None else new

    return next_value


def _raw(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _json(path: str, content: bytes, new: Callable[[str], str]) -> bytes:
    try:
        text = content.decode()
        whole: Any = json.loads(text)
        nodes = jsonpath_rfc9535.find(path, whole)
    except (ValueError, RecursionError) as error:
        raise PlaceUnreadable(f"it is not JSON ({type(error).__name__})") from error
    for node in nodes:
        before = node.value if isinstance(node.value, str) else json.dumps(node.value)
        after = new(before)
        if after != before:
            inner = whole
            for step in node.location[:-1]:
                inner = inner[step]
            inner[node.location[-1]] = after if isinstance(node.value, str) else _value(after)
    indent = _INDENT.match(text)
    spaces = len(indent.group(1)) if indent else None
    end = "\n" if text.endswith("\n") else ""
    return (json.dumps(whole, indent=spaces, ensure_ascii=False) + end).encode()


def _value(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError as error:
        raise PlaceUnreadable(f"{text[:40]!r} is not a JSON value") from error


def _xml(path: str, content: bytes, new: Callable[[str], str]) -> bytes:
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, huge_tree=False, load_dtd=False
    )
    try:
        root = etree.fromstring(content, parser)
        nodes = root.xpath(path)
    except (etree.LxmlError, ValueError) as error:
        raise PlaceUnreadable(f"it is not XML ({type(error).__name__})") from error
    found: list[Any] = nodes if isinstance(nodes, list) else []  # texts know where they are from
    for node in found:
        if isinstance(node, etree._Element):
            node.text = new(node.text or "")
        elif getattr(node, "is_attribute", False):
            node.getparent().set(node.attrname, new(str(node)))
        elif getattr(node, "is_text", False):
            node.getparent().text = new(str(node))
    declared = content.lstrip().startswith(b"<?xml")
    tree = root.getroottree()
    written: bytes = etree.tostring(tree, xml_declaration=declared, encoding="utf-8")
    return written + (b"\n" if content.endswith(b"\n") and not written.endswith(b"\n") else b"")


def _rows(rows: PlaceRows, text: str, give: Give, added: list[str]) -> str:
    seen: dict[str, int] = {}
    lines = []
    for line in text.splitlines(keepends=True):
        words = list(_WORD.finditer(line))
        if not _belongs(rows, words):
            lines.append(line)
            continue
        key = words[rows.key - 1].group()
        seen[key] = seen.get(key, 0) + 1
        name = key if seen[key] == 1 else f"{key} ({seen[key]})"
        before = " ".join(words[column - 1].group() for column in rows.values)
        after = give(Located(name, before, line.strip()))
        lines.append(_row(rows, line, words, after))
    if added:
        if lines and not lines[-1].endswith("\n"):
            lines[-1] += "\n"
        lines += [f"{row}\n" for row in added]
    return "".join(lines)


def _belongs(rows: PlaceRows, words: list[re.Match[str]]) -> bool:
    if len(words) < max(rows.key, *rows.values) or words[0].group().startswith("#"):
        return False
    return compiled(rows.only).fits(words[rows.values[0] - 1].group())


def _row(rows: PlaceRows, line: str, words: list[re.Match[str]], after: str | None) -> str:
    if after is None:
        return f"# not on this machine: {line.lstrip()}"
    new = after.split(" ")
    if len(new) != len(rows.values) or not all(new):
        raise PlaceUnreadable(f"a row needs {len(rows.values)} values, not {after[:80]!r}")
    by_column = dict(zip(rows.values, new, strict=True))
    told, at = [], 0
    for number, word in enumerate(words, 1):
        told += [line[at : word.start()], by_column.get(number, word.group())]
        at = word.end()
    return "".join([*told, line[at:]])


Spans = Iterator[tuple[int, int]]


def _ini_spans(wanted: IniKey, text: str) -> Spans:
    section, at = "", 0
    for line in text.splitlines(keepends=True):
        if named := _SECTION.match(line):
            section = named.group(1)
        elif fnmatchcase(section, wanted.section) and not line.lstrip().startswith(("#", ";")):
            key, sign, value = line.partition("=")
            if sign and key.strip() == wanted.key:
                start = at + len(key) + 1 + len(value) - len(value.lstrip())
                yield start, start + len(value.strip())
        at += len(line)


def _ldif_spans(attribute: str, text: str) -> Spans:
    at = 0
    for line in text.splitlines(keepends=True):
        name, sign, value = line.partition(":")
        if sign and name.lower() == attribute.lower():
            if value.startswith((":", "<")):
                raise PlaceUnreadable(f"{attribute} is encoded")
            start = at + len(name) + 1 + len(value) - len(value.lstrip(" "))
            yield start, start + len(value.strip())
        at += len(line)


def _lines(text: str, spans: Spans, new: Callable[[str], str]) -> str:
    told, at = [], 0
    for start, end in spans:
        told += [text[at:start], new(text[start:end])]
        at = end
    return "".join([*told, text[at:]])
