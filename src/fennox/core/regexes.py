"""Regular expressions of kind files, applied to text from machines. Pure.

The far side writes the text, so matching must be linear in its length: RE2 matches every pattern it
supports in linear time. It supports no lookahead, lookbehind or backreferences. Earlier versions of
Fennox allowed these, and older backups carry kinds that use them, so such patterns are matched with
a time limit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import re2
import regex as backtracking

_OPTIONS = re2.Options()
_OPTIONS.log_errors = False
SECONDS = 10.0
"""How long one that RE2 does not read may work on one text."""

Span = tuple[int, int]


class Unreadable(ValueError):
    """A pattern that is not a valid regular expression."""


class TooSlow(ValueError):
    """A pattern that did not finish within :data:`SECONDS`."""


@dataclass(frozen=True)
class Regex:
    """``groups``: number of groups. A match yields its group (of several, the last that matched),
    or without groups the whole match. ``linear``: RE2 supports it.
    """

    groups: int
    linear: bool
    _spans: Callable[[bytes], Iterator[tuple[Span, Span]]]

    def spans(self, text: bytes) -> Iterator[tuple[Span, Span]]:
        """Every match and the value it yields, as UTF-8 bytes. A group that matched nothing is
        empty.

        :raises TooSlow: during iteration, if not linear
        """
        return self._spans(text)

    def drawn(self, text: str) -> Iterator[str]:
        """The values it yields from a text, in order."""
        raw = _raw(text)
        return (_text(raw[start:end]) for _, (start, end) in self.spans(raw))

    def first(self, text: str) -> str | None:
        """The first value; None: no match."""
        return next(self.drawn(text), None)

    def fits(self, text: str) -> bool:
        return next(self.spans(_raw(text)), None) is not None

    def replaced(self, text: str, new: Callable[[str], str]) -> str:
        """The text with each value replaced by ``new`` of it."""
        raw, told, at = _raw(text), [], 0
        for _, (start, end) in self.spans(raw):
            if start < end:
                told += [_text(raw[at:start]), new(_text(raw[start:end]))]
                at = end
        return "".join([*told, _text(raw[at:])])


@lru_cache(maxsize=4096)
def compiled(pattern: str) -> Regex:
    """:raises Unreadable: with what is wrong with it"""
    try:
        fast = re2.compile(pattern, _OPTIONS)
    except re2.error as error:
        return _limited(pattern, _reason(error))

    def spans(text: bytes) -> Iterator[tuple[Span, Span]]:
        for match in fast.finditer(text):
            yield match.span(), match.span(_drawing(match, fast.groups))

    return Regex(fast.groups, True, spans)


def _limited(pattern: str, why: str) -> Regex:
    try:
        slow = backtracking.compile(pattern, backtracking.VERSION0)
    except backtracking.error as error:
        raise Unreadable(why) from error

    def spans(text: bytes) -> Iterator[tuple[Span, Span]]:
        plain, place, at = _text(text), 0, 0
        try:
            for match in slow.finditer(plain, timeout=SECONDS):
                first, end = match.span()
                # character to byte offset, counted from the last match
                start = at + len(_raw(plain[place:first]))
                marks = [
                    start + len(_raw(plain[first : max(mark, first)]))
                    for mark in (end, *match.span(_drawing(match, slow.groups)))
                ]
                place, at = end, marks[0]
                yield (start, marks[0]), (marks[1], marks[2])
        except TimeoutError as error:
            raise TooSlow(f"a pattern was still working after {SECONDS:g} s") from error

    return Regex(slow.groups, False, spans)


def _drawing(match: Any, groups: int) -> int:
    """The number of the group that yields the value."""
    return next(
        (number for number in range(groups, 1, -1) if match.span(number)[0] >= 0), min(groups, 1)
    )


def _reason(error: Exception) -> str:
    said = error.args[0] if error.args else "it cannot be read"
    return said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)


def _raw(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _text(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")
