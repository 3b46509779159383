"""Open expression languages over captured documents: JSONPath (RFC 9535), XPath 1.0, regular
expressions, CSV columns.

Documents come from a far side and are not trusted: XML is parsed without entities or network, the
caller bounds sizes, and an unparsable document yields no values and one complaint.
"""

from __future__ import annotations

import base64
import configparser
import csv
import fnmatch
import hashlib
import json
import re
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import islice, takewhile
from typing import NamedTuple

import jsonpath_rfc9535
from lxml import etree

from fennox.core import regexes
from fennox.core.kinds.sources import Expression, IniKey, Setting

IDENTITY = ("id", "product", "version", "build", "platform", "name")
# before these: all that is neither a small letter nor a digit
_RAREST = "zqjxkvwygpumlhroisntbcdfae0123456789"
MAX_EVIDENCE = 16 * 1024 * 1024  # bytes of one document that expressions may read
MAX_EVIDENCE_OF_ALL = 16 * MAX_EVIDENCE  # bytes of all documents of one reading


class Complaint(NamedTuple):
    """Why a document could not be read as its kind expects."""

    path: str
    what: str

    def __str__(self) -> str:
        return f"{self.path} {self.what}"


@dataclass
class Evidence:
    """Captured documents for expressions: path → content, and all paths. ``patience`` reports
    whether time is left; a caller with a clock may supply one.
    """

    contents: dict[str, bytes] = field(default_factory=dict)
    paths: set[str] = field(default_factory=set)
    complaints: list[Complaint] = field(default_factory=list)
    patience: Callable[[], bool] = lambda: True


def wanted(patterns: Sequence[str], path: str) -> bool:
    """Whether any pattern with ``*`` matches the whole path."""
    return path in patterns or _union(tuple(patterns)).match(path) is not None


def fitting(patterns: Sequence[str]) -> Callable[[str], bool]:
    """As :func:`wanted`, for many paths and the same patterns."""
    match = _union(tuple(patterns)).match
    return lambda path: path in patterns or match(path) is not None


def fits_some(pattern: str, ordered: Sequence[str]) -> bool:
    """Whether a pattern matches any of many sorted paths. Tries only paths with the pattern's
    literal beginning.
    """
    literal = re.split(r"[*?\[]", pattern, maxsplit=1)[0]
    beginning = takewhile(
        lambda path: path.startswith(literal), islice(ordered, bisect_left(ordered, literal), None)
    )
    return any(map(fitting([pattern]), beginning))


@lru_cache(maxsize=1024)
def _union(patterns: tuple[str, ...]) -> re.Pattern[str]:
    """All patterns combined into one, because many paths are matched."""
    return re.compile("|".join(fnmatch.translate(pattern) for pattern in patterns) or r"(?!)")


def holds(expression: Expression, content: bytes | bytearray) -> bool:
    """Whether a document contains a word it must contain to be evaluated. Searching one byte is ten
    times as fast as searching a word, and keys, digests and dumps rarely contain it.
    """
    words = (_with_rarest(word) for word in expression.holding)
    return not expression.holding or any(
        rare in content and word in content for rare, word in words
    )


@lru_cache(maxsize=1024)
def _with_rarest(word: str) -> tuple[bytes, bytes]:
    """The word's rarest byte in English and hexadecimal text, and the word."""
    return min(word, key=_RAREST.find, default="").encode(), word.encode()


def values(expression: Expression, evidence: Evidence) -> list[str]:
    """All values an expression yields, in order of the documents' paths."""
    drawn = _drawn(expression, evidence)
    if expression.without is not None:
        unwanted = regexes.compiled(expression.without)
        return [value for value in drawn if not unwanted.fits(value)]
    return drawn


def _drawn(expression: Expression, evidence: Evidence) -> list[str]:
    if expression.names is not None:
        pattern = regexes.compiled(expression.names)
        fits = fitting([expression.in_])
        found = (pattern.first(path) for path in sorted(evidence.paths) if fits(path))
        return [drawn for drawn in found if drawn is not None]
    drawn: list[str] = []
    for path in sorted(evidence.contents):
        if wanted([expression.in_], path) and holds(expression, evidence.contents[path]):
            try:
                for value in _from_document(expression, evidence.contents[path]):
                    if not evidence.patience():
                        raise regexes.TooSlow("all expressions together took too long")
                    drawn.append(_made(expression, value))
            except regexes.TooSlow as error:
                evidence.complaints.append(
                    Complaint(path, f"was not evaluated to its end: {error}")
                )
            except (
                ValueError,
                RecursionError,
                etree.LxmlError,
                csv.Error,
                configparser.Error,
            ) as error:
                what = f"cannot be read as its kind expects: {type(error).__name__}"
                evidence.complaints.append(Complaint(path, what))
    return drawn


def first(expression: Expression | None, evidence: Evidence) -> str:
    """The first value, or an empty text."""
    drawn = values(expression, evidence) if expression is not None else []
    return drawn[0] if drawn else ""


def _from_document(expression: Expression, content: bytes) -> Iterable[str]:
    if expression.jsonpath is not None:
        return json_values(expression.jsonpath, json.loads(content))
    if expression.xpath is not None:
        parser = etree.XMLParser(
            resolve_entities=False, no_network=True, huge_tree=False, load_dtd=False
        )
        result = etree.fromstring(content, parser).xpath(expression.xpath)
        return [_xml_text(item) for item in result] if isinstance(result, list) else [str(result)]
    text = content.decode("utf-8", "replace")
    if expression.csv is not None:
        column = expression.csv
        lines = (
            line
            for line in text.splitlines()
            if line.strip() and not line.startswith(column.comment)
        )
        rows = csv.reader(lines, delimiter=column.separator, quoting=csv.QUOTE_NONE)
        wanted_columns = [column.column, *([column.beside] if column.beside is not None else [])]
        return [
            " ".join(row[one - 1] for one in wanted_columns)
            for row in rows
            if len(row) >= max(wanted_columns)
        ]
    if expression.ini is not None:
        return list(_ini_values(expression.ini, text))
    assert expression.regex is not None
    return regexes.compiled(expression.regex).drawn(text)


def _ini_values(wanted_key: IniKey, text: str) -> Iterator[str]:
    for name, section in ini_sections(text).items():
        if fnmatch.fnmatchcase(name, wanted_key.section):
            if wanted_key.key is None:
                yield name
            elif wanted_key.key in section:
                yield section[wanted_key.key]


def ini_sections(text: str) -> dict[str, dict[str, str]]:
    """An INI document without interpolation. Keys before the first section are in the section
    ``""``.
    """
    parser = configparser.ConfigParser(
        interpolation=None,
        strict=False,
        allow_no_value=True,
        default_section="\0",
        delimiters=("=",),
    )
    parser.optionxform = str  # type: ignore[assignment,method-assign] # preserves case of keys
    try:
        parser.read_string(f"[\1]\n{text}")
    except (
        AttributeError
        # what Python 3.11's library raises for a continuation line below a key without a value
    ) as error:
        raise ValueError("a line continues a value that did not begin") from error
    sections = {
        name: {key: value or "" for key, value in parser[name].items()}
        for name in parser.sections()
    }
    first = sections.pop("\1")
    return {"": first, **sections} if first else sections


def json_values(path: str, value: object) -> list[str]:
    """Values a JSONPath yields; strings as they are, everything else as JSON."""
    nodes = jsonpath_rfc9535.find(path, value).values()  # type: ignore[arg-type]
    return [
        node if isinstance(node, str) else json.dumps(node, sort_keys=True)
        for node in nodes
        if node is not None
    ]


def _xml_text(item: object) -> str:
    if isinstance(item, etree._Element):
        return str(etree.tostring(item, method="text", encoding="unicode", with_tail=False))
    return str(item)


def _made(expression: Expression, value: str) -> str:
    if expression.read == "ssh-fingerprint":
        words = value.split()
        raw = base64.b64decode(words[1] if len(words) > 1 else value)
        return "SHA256:" + base64.b64encode(hashlib.sha256(raw).digest()).decode().rstrip("=")
    if expression.read == "certificate-fingerprint":
        body = "".join(line for line in value.splitlines() if line and not line.startswith("-----"))
        return "SHA256:" + base64.b64encode(
            hashlib.sha256(base64.b64decode(body)).digest()
        ).decode().rstrip("=")
    return value


PLACEHOLDER = re.compile(r"\{([a-z][a-z0-9_-]*)\}")


def filled(word: str, values_by_name: Mapping[str, str]) -> str:
    """Replace ``{name}`` by its value; unknown names stay, and values are not expanded again."""
    return PLACEHOLDER.sub(
        lambda match: values_by_name.get(match.group(1), match.group(0)),
        word,
    )


def patterns(
    listed: list[str], settings: Mapping[str, Setting], values_by_name: Mapping[str, str]
) -> list[str]:
    """Path patterns with placeholders filled; a placeholder holding a list of paths yields one
    pattern each.
    """
    found = []
    for pattern in listed:
        name = pattern.removeprefix("{").removesuffix("}")
        if pattern == f"{{{name}}}" and name in settings and settings[name].type == "paths":
            for path in values_by_name[name].splitlines():
                found += (
                    [path]
                    if any(sign in path for sign in "*?[")
                    else [path, f"{path.rstrip('/')}/*"]
                )
        else:
            found.append(filled(pattern, values_by_name))
    return found


def named_in_json(value: object) -> set[str]:
    """The placeholders in every text of a JSON value."""
    match value:
        case str():
            return set(PLACEHOLDER.findall(value))
        case dict():
            return {name for inner in value.values() for name in named_in_json(inner)}
        case list():
            return {name for inner in value for name in named_in_json(inner)}
        case _:
            return set()


def filled_json(value: object, values_by_name: Mapping[str, str]) -> object:
    """As :func:`filled`, for every text in a JSON value."""
    if isinstance(value, str):
        return filled(value, values_by_name)
    if isinstance(value, dict):
        return {name: filled_json(inner, values_by_name) for name, inner in value.items()}
    if isinstance(value, list):
        return [filled_json(inner, values_by_name) for inner in value]
    return value
