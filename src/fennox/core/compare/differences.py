"""What differs between two structures of JSON values, or between two texts."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from difflib import SequenceMatcher
from typing import Any

from fennox.core.compare.model import Change

Keys = Callable[[tuple[str, ...]], str | None]
"""How members of the list at a path are matched: by this field, by their whole value (empty), or by
position.
"""

Line = tuple[int, str]
# lines or members per side that are matched in order; beyond that they are only counted
_MATCHED = 3000


def differences(
    before: Any, after: Any, keys: Keys, path: tuple[str, ...] = ()
) -> Iterator[Change]:
    """Every value that was added, removed or changed."""
    if isinstance(before, dict) and isinstance(after, dict):
        yield from _of_objects(before, after, keys, path)
    elif isinstance(before, list) and isinstance(after, list):
        key = keys(path)
        if key is None:
            yield from _of_lists(before, after, keys, path)
        else:
            ours, theirs = _members(before, key), _members(after, key)
            if ours is None or theirs is None:
                yield from _of_lists(before, after, keys, path)
            else:
                yield from _of_objects(ours, theirs, keys, path)
    elif type(before) is not type(after) or before != after:  # 1 is not true
        yield Change(what="changed", path=list(path), before=before, after=after)


def _of_objects(
    before: dict[str, object], after: dict[str, object], keys: Keys, path: tuple[str, ...]
) -> Iterator[Change]:
    for name in [*before, *(name for name in after if name not in before)]:
        here = (*path, name)
        if name not in after:
            yield Change(what="removed", path=list(here), before=before[name])
        elif name not in before:
            yield Change(what="added", path=list(here), after=after[name])
        else:
            yield from differences(before[name], after[name], keys, here)


def _members(items: list[Any], key: str) -> dict[str, object] | None:
    """Members by name; None if the field is not unique among them."""
    if key:
        if not all(isinstance(item, dict) and key in item for item in items):
            return None
        found = {f"{key}={item[key]}": item for item in items}
        return found if len(found) == len(items) else None
    named: dict[str, object] = {}
    seen: Counter[str] = Counter()
    for item in items:
        text = _text(item)
        seen[text] += 1
        named[text if seen[text] == 1 else f"{text} ({seen[text]})"] = item
    return named


def _of_lists(
    before: list[Any], after: list[Any], keys: Keys, path: tuple[str, ...]
) -> Iterator[Change]:
    for ours, theirs in _matched([_text(item) for item in before], [_text(item) for item in after]):
        paired = min(len(ours), len(theirs))
        for left, right in zip(list(ours)[:paired], list(theirs)[:paired], strict=True):
            yield from differences(before[left], after[right], keys, (*path, str(left)))
        for left in list(ours)[paired:]:
            yield Change(what="removed", path=[*path, str(left)], before=before[left])
        for right in list(theirs)[paired:]:
            yield Change(what="added", path=[*path, str(right)], after=after[right])


def of_lines(
    before: Sequence[Line], after: Sequence[Line], headings: Callable[[int, bool], list[str]]
) -> Iterator[Change]:
    """Lines that differ, each with its number in its own text. ``headings``: the heading above each
    line.
    """
    for ours, theirs in _matched([text for _, text in before], [text for _, text in after]):
        paired = min(len(ours), len(theirs)) if len(ours) == len(theirs) else 0
        for left, right in zip(list(ours)[:paired], list(theirs)[:paired], strict=True):
            number, text = before[left]
            path = [*headings(number, False), f"line {number}"]
            yield Change(what="changed", path=path, before=text, after=after[right][1])
        for left in list(ours)[paired:]:
            number, text = before[left]
            yield Change(
                what="removed", path=[*headings(number, False), f"line {number}"], before=text
            )
        for right in list(theirs)[paired:]:
            number, text = after[right]
            yield Change(what="added", path=[*headings(number, True), f"line {number}"], after=text)


def _matched(before: list[str], after: list[str]) -> Iterator[tuple[Sequence[int], Sequence[int]]]:
    """Differing stretches, as positions on each side. Equal beginnings and ends are skipped
    first.
    """
    start = 0
    while start < min(len(before), len(after)) and before[start] == after[start]:
        start += 1
    end = 0
    while end < min(len(before), len(after)) - start and before[-1 - end] == after[-1 - end]:
        end += 1
    ours, theirs = before[start : len(before) - end], after[start : len(after) - end]
    if len(ours) > _MATCHED or len(theirs) > _MATCHED:
        yield from _counted(ours, theirs, start)
        return
    for tag, left, left_end, right, right_end in SequenceMatcher(None, ours, theirs).get_opcodes():
        if tag != "equal":
            yield range(start + left, start + left_end), range(start + right, start + right_end)


def _counted(
    before: list[str], after: list[str], start: int
) -> Iterator[tuple[Sequence[int], Sequence[int]]]:
    """For very long stretches: only added and removed lines, regardless of position."""
    gone, come = Counter(before) - Counter(after), Counter(after) - Counter(before)
    for items, left_over, ours in ((before, gone, True), (after, come, False)):
        for place, item in enumerate(items):
            if left_over[item] > 0:
                left_over[item] -= 1
                yield ([start + place], []) if ours else ([], [start + place])


def _text(item: Any) -> str:
    return item if isinstance(item, str) else json.dumps(item, sort_keys=True, ensure_ascii=False)
