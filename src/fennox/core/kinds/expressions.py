"""Open expression languages over captured documents: JSONPath (RFC 9535), XPath 1.0, regular expressions, CSV columns.

Documents come from a far side and are doubted: XML is read without entities or network, sizes are bounded by the
caller, and a document that cannot be parsed gives no values and one complaint.
"""

from __future__ import annotations

import base64
import csv
import fnmatch
import hashlib
import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

import jsonpath_rfc9535
from lxml import etree

from fennox.core.kinds.model import Expression, Kind

MAX_EVIDENCE = 16 * 1024 * 1024  # bytes of one document that expressions look at


@dataclass
class Evidence:
    """Captured documents that expressions look at: path → content, and all paths."""

    contents: dict[str, bytes] = field(default_factory=dict)
    paths: set[str] = field(default_factory=set)
    complaints: list[str] = field(default_factory=list)


def check_all(kind: Kind) -> Iterator[tuple[str, str]]:
    """Every expression of a kind that does not compile: where, and why."""
    for name, listed in kind.census.items():
        for expression in listed:
            yield from _check(name, expression)
    for item in kind.completeness:
        yield from _check(item.code, item.needs)
    for reference in kind.references:
        yield from _check(reference.title, reference.paths)
    for where in ("id", "product", "version", "build", "platform", "name"):
        found: Expression | None = getattr(kind.identity, where)
        if found is not None:
            yield from _check(f"identity.{where}", found)


def _check(where: str, expression: Expression) -> Iterator[tuple[str, str]]:
    try:
        if expression.jsonpath is not None:
            jsonpath_rfc9535.compile(expression.jsonpath)
        if expression.xpath is not None:
            etree.XPath(expression.xpath)
        for pattern in (expression.regex, expression.names):
            if pattern is not None and re.compile(pattern).groups > 1:
                yield where, f"{pattern!r} has more than one group"
    except (jsonpath_rfc9535.JSONPathError, etree.XPathSyntaxError, re.error) as error:
        yield where, f"the expression does not compile: {error}"


def wanted(patterns: list[str], path: str) -> bool:
    """Whether any pattern with ``*`` fits the whole path."""
    return any(pattern == path or fnmatch.fnmatchcase(path, pattern) for pattern in patterns)


def values(expression: Expression, evidence: Evidence) -> list[str]:
    """All values an expression draws, in the order of documents by path."""
    if expression.names is not None:
        pattern = re.compile(expression.names)
        found = (pattern.search(path) for path in sorted(evidence.paths) if wanted([expression.in_], path))
        return [match.group(match.re.groups) for match in found if match]
    drawn: list[str] = []
    for path in sorted(evidence.contents):
        if wanted([expression.in_], path):
            try:
                drawn += _from_document(expression, evidence.contents[path])
            except (ValueError, RecursionError, etree.LxmlError, csv.Error) as error:
                evidence.complaints.append(f"{path} cannot be read as its kind expects: {type(error).__name__}")
    return [_made(expression, value) for value in drawn]


def first(expression: Expression | None, evidence: Evidence) -> str:
    """The first value, or an empty text."""
    drawn = values(expression, evidence) if expression is not None else []
    return drawn[0] if drawn else ""


def _from_document(expression: Expression, content: bytes) -> list[str]:
    if expression.jsonpath is not None:
        return json_values(expression.jsonpath, json.loads(content))
    if expression.xpath is not None:
        parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False, load_dtd=False)
        result = etree.fromstring(content, parser).xpath(expression.xpath)
        return [_xml_text(item) for item in result] if isinstance(result, list) else [str(result)]
    text = content.decode("utf-8", "replace")
    if expression.csv is not None:
        column = expression.csv
        lines = (line for line in text.splitlines() if line.strip() and not line.startswith(column.comment))
        rows = csv.reader(lines, delimiter=column.separator, quoting=csv.QUOTE_NONE)
        return [row[column.column - 1] for row in rows if len(row) >= column.column]
    assert expression.regex is not None
    pattern = re.compile(expression.regex)
    return [match.group(pattern.groups) for match in pattern.finditer(text)]


def json_values(path: str, value: object) -> list[str]:
    """Values a JSONPath draws; texts as they are, everything else as JSON."""
    nodes = jsonpath_rfc9535.find(path, value).values()  # type: ignore[arg-type]
    return [node if isinstance(node, str) else json.dumps(node, sort_keys=True) for node in nodes if node is not None]


def _xml_text(item: object) -> str:
    if isinstance(item, etree._Element):
        return str(etree.tostring(item, method="text", encoding="unicode", with_tail=False))
    return str(item)


def _made(expression: Expression, value: str) -> str:
    if expression.read == "ssh-fingerprint":
        words = value.split()
        raw = base64.b64decode(words[1] if len(words) > 1 else words[0])
        return "SHA256:" + base64.b64encode(hashlib.sha256(raw).digest()).decode().rstrip("=")
    if expression.read == "certificate-fingerprint":
        body = "".join(line for line in value.splitlines() if line and not line.startswith("-----"))
        return "SHA256:" + base64.b64encode(hashlib.sha256(base64.b64decode(body)).digest()).decode().rstrip("=")
    return value


def filled(word: str, values_by_name: Mapping[str, str]) -> str:
    """Put values in place of ``{name}``; an unknown name is left as it stands, and nothing is interpreted twice."""
    return re.sub(r"\{([a-z][a-z0-9_-]*)\}", lambda match: values_by_name.get(match.group(1), match.group(0)), word)


def filled_json(value: object, values_by_name: Mapping[str, str]) -> object:
    """As :func:`filled`, for every text in a JSON value."""
    if isinstance(value, str):
        return filled(value, values_by_name)
    if isinstance(value, dict):
        return {name: filled_json(inner, values_by_name) for name, inner in value.items()}
    if isinstance(value, list):
        return [filled_json(inner, values_by_name) for inner in value]
    return value
