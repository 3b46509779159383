"""Checking a kind file's expressions before they are used."""

from __future__ import annotations

from collections.abc import Iterator

import jsonpath_rfc9535
from lxml import etree

from fennox.core import regexes
from fennox.core.kind_files.consistency import placed_steps, texts_of
from fennox.core.kinds.expressions import IDENTITY
from fennox.core.kinds.model import Kind
from fennox.core.kinds.positions import Path
from fennox.core.kinds.sources import Expression

_PATHS_OF_REQUESTS = ("job", "why", "digest", "jsonpath")


def check_all(kind: Kind) -> Iterator[tuple[Path, str, str]]:
    """Every expression of a kind that does not compile: its path, the reason, and what to do."""
    for path, expression in _placed(kind):
        yield from _check(path, expression)
    for path, pattern in _placed_patterns(kind):
        drawing = path[0] in ("part", "noise", "hidden", "place")
        yield from _check_pattern(path, pattern, most_groups=1 if drawing else 100)
    for table in ("noise", "hidden", "place"):
        for number, rule in enumerate(getattr(kind, table)):
            yield from _check_path((table, number, "jsonpath"), rule.jsonpath)
    for where, text in texts_of(kind):
        if where[0] in ("part", "restore") and where[-1] in _PATHS_OF_REQUESTS:
            yield from _check_path(where, text)
    for number, place in enumerate(kind.place):
        yield from _check_xpath(("place", number, "xpath"), place.xpath)


def _placed(kind: Kind) -> Iterator[tuple[Path, Expression]]:
    for name, listed in kind.census.items():
        for number, expression in enumerate(listed):
            yield ("census", name, number), expression
    for number, item in enumerate(kind.completeness):
        yield ("completeness", number, "needs"), item.needs
    for number, doubt in enumerate(kind.doubts):
        yield ("doubts", number, "finds"), doubt.finds
    for number, reference in enumerate(kind.references):
        yield ("references", number, "paths"), reference.paths
    for number, place in enumerate(kind.place):
        for inner, expression in enumerate(place.real):
            yield ("place", number, "real", inner), expression
    for table, names in (("identity", IDENTITY), ("expected", ("address", "account", "key"))):
        for name in names:
            found: Expression | None = getattr(getattr(kind, table), name)
            if found is not None:
                yield (table, name), found
    if kind.clock is not None:
        yield ("clock", "value"), kind.clock.value


def _placed_patterns(kind: Kind) -> Iterator[tuple[Path, str]]:
    """Those that are not part of an expression."""
    found: list[tuple[Path, str | None]] = [
        (("requires", "version_form"), kind.requires.version_form)
    ]
    for setting, value in kind.settings.items():
        found += [(("settings", setting, "fits", at), text) for at, text in enumerate(value.fits)]
    for place, part in enumerate(kind.part):
        for number, source in enumerate(part.source):
            if source.hand is not None:
                found.append((("part", place, "source", number, "hand", "fits"), source.hand.fits))
            if source.push is not None:
                at: Path = ("part", place, "source", number, "push")
                found.append(((*at, "fits"), source.push.fits))
                if source.push.manifest is not None:
                    manifest = source.push.manifest
                    found.append(((*at, "manifest", "names"), manifest.names))
                    found.append(((*at, "manifest", "digests"), manifest.digests))
    for table, name in (
        ("noise", "lines"),
        ("hidden", "lines"),
        ("harmless", "lines"),
        ("formats", "heading"),
    ):
        found += [
            ((table, number, name), getattr(rule, name))
            for number, rule in enumerate(getattr(kind, table))
        ]
    found += [((*path, "expect"), step.expect) for path, step in placed_steps(kind)]
    found += _of_new_machine(kind)
    for number, rule in enumerate(kind.place):
        at = ("place", number)
        found.append(((*at, "regex"), rule.regex))
        found += [((*at, "shown", inner), text) for inner, text in enumerate(rule.shown)]
        if rule.rows is not None:
            found.append(((*at, "rows", "only"), rule.rows.only))
    yield from ((path, pattern) for path, pattern in found if pattern is not None)


def _of_new_machine(kind: Kind) -> Iterator[tuple[Path, str | None]]:
    made = kind.new_machine
    if made is None:
        return
    for number, value in enumerate(made.value):
        yield ("new_machine", "value", number, "fits"), value.fits
    for table in ("must", "step"):
        for number, step in enumerate(getattr(made, table)):
            yield ("new_machine", table, number, "expect"), step.expect
    for name in ("names", "address", "key"):
        yield ("new_machine", name, "regex"), getattr(made, name).regex


def placed_regexes(kind: Kind) -> Iterator[tuple[Path, str]]:
    """Every regular expression of a kind, with its path."""
    for path, expression in _placed(kind):
        for text in (expression.regex, expression.names, expression.without):
            if text is not None:
                yield path, text
    yield from _placed_patterns(kind)


def _check(where: Path, expression: Expression) -> Iterator[tuple[Path, str, str]]:
    yield from _check_path(where, expression.jsonpath)
    yield from _check_pattern(where, expression.regex or expression.names, most_groups=1)
    yield from _check_pattern((*where, "without"), expression.without)
    yield from _check_xpath(where, expression.xpath)


def _check_xpath(where: Path, xpath: str | None) -> Iterator[tuple[Path, str, str]]:
    try:
        if xpath is not None:
            etree.XPath(xpath)
    except etree.XPathSyntaxError as error:
        text = f"the XPath does not compile: {error}"
        yield where, text, "XPath 1.0 is described by the W3C."


def _check_path(where: Path, path: str | None) -> Iterator[tuple[Path, str, str]]:
    try:
        if path is not None:
            jsonpath_rfc9535.compile(path)
    except jsonpath_rfc9535.JSONPathError as error:
        yield where, f"the JSONPath does not compile: {error}", "JSONPath is described by RFC 9535."


def _check_pattern(
    where: Path, pattern: str | None, most_groups: int = 100
) -> Iterator[tuple[Path, str, str]]:
    if pattern is None:
        return
    try:
        groups = regexes.compiled(pattern).groups
    except regexes.Unreadable as error:
        yield where, f"the regular expression does not compile: {error}", "It is read as RE2 does."
    else:
        if groups > most_groups:
            yield (
                where,
                f"{pattern!r} has more than one group",
                "Write (?:…) for groups that only hold together.",
            )
