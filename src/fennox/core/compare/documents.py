"""What differs between two states of one document: values, lines and attributes, without noise,
secrets masked.
"""

from __future__ import annotations

import copy
import json
import re
from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from itertools import islice
from operator import itemgetter
from typing import Any

import jsonpatch
import jsonpath_rfc9535

from fennox.core.compare import differences, shapes
from fennox.core.compare.differences import Keys, Line
from fennox.core.compare.model import MASK, MOST_CHANGES, Change, DocumentChange, What
from fennox.core.compare.sensitive import (
    is_secret,
    mask,
    masked_line,
    masked_value,
    may_hold_secrets,
)
from fennox.core.compare.shapes import Structured
from fennox.core.format.manifest import Document
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.kinds.expressions import wanted
from fennox.core.kinds.filling import calls_secret
from fennox.core.kinds.literals import Shape
from fennox.core.kinds.model import Kind
from fennox.core.regexes import compiled

Location = tuple[int | str, ...]

_ATTRIBUTES = ("type", "mode", "owner", "group", "link")
_TOO_MUCH = "too much differs to show at once: name the documents you want"
_MASKED = re.compile(f"{MASK}[0-9a-f]{{16}}")


def attributes(before: Document, after: Document) -> list[Change]:
    """Type, rights, owner and link target, where they differ."""
    found = []
    for name in _ATTRIBUTES:
        ours, theirs = _shown(before, name), _shown(after, name)
        if ours != theirs:
            found.append(Change(what="changed", path=[name], before=ours, after=theirs))
    return found


def _shown(document: Document, name: str) -> Any:
    value = getattr(document, name)
    if name == "mode" and value is not None:
        return f"{value:04o}"
    if name in ("owner", "group") and value is None:
        number = document.uid if name == "owner" else document.gid
        return str(number) if number is not None else None
    return value


def only_there(what: What, part: str, document: Document, kind: Kind) -> DocumentChange:
    return DocumentChange(
        part=part, path=document.path, what=what, shape=shapes.shape_of(kind, document.path)
    )


def ignored(kind: Kind, path: str) -> bool:
    """Whether the kind declares the whole content of this document as noise."""
    return any(noise.whole and wanted([noise.in_], path) for noise in kind.noise)


def named_by(kind: Kind, path: str) -> str:
    """The path; or the pattern of the noise to which the document's name belongs."""
    return next((one.in_ for one in kind.noise if one.names and wanted([one.in_], path)), path)


def changed(
    kind: Kind,
    part: str,
    before: Document,
    after: Document,
    contents: tuple[bytes, bytes] | None,
    salt: bytes,
    *,
    patches: bool = False,
    room: int = MOST_CHANGES,
) -> DocumentChange | None:
    """None if the two differ only in noise. ``contents``: None if equal or not to be shown.
    ``room``: the most changes to list; a document with more says so and gets no patch, which would
    be incomplete. A secret document is only reported as changed, unless its kind names the values
    that alone are secret.
    """
    found = DocumentChange(
        part=part,
        path=before.path,
        what="changed",
        shape="bytes",
        attributes=attributes(before, after),
    )
    if before.digest != after.digest and not ignored(kind, before.path):
        if contents is None:
            why = "it is too long to be shown" if room else _TOO_MUCH
            return found.model_copy(update={"said": f"Its content has changed; {why}."})
        told = content_changes(kind, before.path, *contents, salt, patches=patches, room=room)
        by_kind = before.secret or after.secret or calls_secret(kind, part, before.path)
        named = by_kind or is_secret(before.path, *contents)
        secret = named and not rest_is_open(kind, before.path)
        if secret and (told.changes or told.said):
            told = DocumentTold("bytes", said="Its content is secret, and has changed.")
        found = found.model_copy(update=vars(told))
    return found if found.attributes or found.changes or found.said else None


def rest_is_open(kind: Kind, path: str) -> bool:
    return any(rule.alone for rule in kind.hidden if wanted([rule.in_], path))


@dataclass(frozen=True)
class DocumentTold:
    """The visible part of a changed content; ``said``: a sentence where no values can be shown."""

    shape: Shape
    changes: list[Change] = field(default_factory=list)
    said: str = ""
    patch: list[dict[str, object]] = field(default_factory=list)


def content_changes(
    kind: Kind,
    path: str,
    before: bytes,
    after: bytes,
    salt: bytes,
    *,
    patches: bool = False,
    room: int = MOST_CHANGES,
) -> DocumentTold:
    """Differences between two contents, without noise, hidden values masked; at most the first
    ``room``.
    """
    ours, theirs = shapes.read(kind, path, before), shapes.read(kind, path, after)
    if "bytes" in (ours.shape, theirs.shape):
        return DocumentTold("bytes", said="Its content is no text, and has changed.")
    structured = ours.shape == theirs.shape != "text"
    hidden = [rule for rule in kind.hidden if wanted([rule.in_], path)]
    if any((rule.jsonpath is not None) != structured for rule in hidden):
        # a rule that cannot be applied must still hide its values
        return DocumentTold(
            "bytes",
            said=(
                "Its content has changed; it holds secrets, and cannot be read as its kind expects."
            ),
        )
    found: Iterator[Change]
    if structured:
        left, right = (
            masked_value(path, quiet_value(kind, path, item, salt), salt) for item in (ours, theirs)
        )
        found = differences.differences(left, right, keys_of(kind, path))
    else:
        sides = _lines(kind, path, ours.text, theirs.text, salt)
        found = differences.of_lines(*sides, _headings(kind, path, ours.text, theirs.text))
        ours = Structured("text")
        left, right = ([line for _, line in side] for side in sides)
    shown = [_shown_change(change) for change in islice(found, room + 1)]
    if len(shown) > room:
        # otherwise asking for this document alone would show no more
        why = f"; {_TOO_MUCH}" if room < MOST_CHANGES else ""
        said = f"Only the first {room} changes are shown{why}."
        return DocumentTold(ours.shape, shown[:room], said=said)
    patch = unsalted(jsonpatch.make_patch(left, right).patch) if patches else []
    return DocumentTold(ours.shape, shown, patch=patch)


def _lines(
    kind: Kind, path: str, before: str, after: str, salt: bytes
) -> tuple[list[Line], list[Line]]:
    """The visible lines of two texts; sorted where line order has no meaning."""
    left, right = (shown_lines(kind, path, text, salt) for text in (before, after))
    if any(item.path == "" and wanted([item.in_], path) for item in kind.collections):
        return sorted(left, key=itemgetter(1)), sorted(right, key=itemgetter(1))
    return left, right


def quiet_value(kind: Kind, path: str, document: Structured, salt: bytes) -> Any:
    """The structure without noise, and with hidden values masked."""
    value = copy.deepcopy(document.value)
    for noise in kind.noise:
        if noise.jsonpath is not None and wanted([noise.in_], path):
            for location, _ in _found(noise.jsonpath, value):
                del _holder(value, location)[location[-1]]
    for hidden in kind.hidden:
        if hidden.jsonpath is not None and wanted([hidden.in_], path):
            for location, held in _found(hidden.jsonpath, value):
                _holder(value, location)[location[-1]] = mask(
                    json.dumps(held, sort_keys=True), salt
                )
    return value


def is_noisy(kind: Kind, path: str) -> bool:
    """Whether the kind declares noise in this document."""
    return bool(kind.noise) and wanted([noise.in_ for noise in kind.noise], path)


def quiet_digest(kind: Kind, path: str, content: bytes) -> str:
    """A digest that differs if the content differs in more than noise."""
    if ignored(kind, path):
        return ""
    document = shapes.read(kind, path, content)
    if document.shape == "bytes":
        quiet = content
    elif document.shape == "text":
        quiet = "\n".join(line for _, line in quiet_lines(kind, path, document.text, b"")).encode()
    else:
        quiet = json.dumps(quiet_value(kind, path, document, b""), sort_keys=True).encode()
    return blake2b_256(quiet)


def _found(path: str, value: Any) -> list[tuple[Location, Any]]:
    """Every location a JSONPath matches, once, deepest first, without the root."""
    nodes = {
        node.location: node.value for node in jsonpath_rfc9535.find(path, value) if node.location
    }
    return list(reversed(nodes.items()))


def _holder(value: Any, location: Location) -> Any:
    """The object or list that contains a location."""
    for step in location[:-1]:
        value = value[step]
    return value


def quiet_lines(kind: Kind, path: str, text: str, salt: bytes) -> list[Line]:
    """Lines with their numbers, without noise, and with hidden stretches masked."""
    noise = [
        compiled(item.lines)
        for item in kind.noise
        if item.lines is not None and wanted([item.in_], path)
    ]
    hidden = [
        compiled(item.lines)
        for item in kind.hidden
        if item.lines is not None and wanted([item.in_], path)
    ]
    found = []
    for number, line in enumerate(text.splitlines(), start=1):
        if any(pattern.fits(line) for pattern in noise):
            continue
        for pattern in hidden:
            line = pattern.replaced(line, lambda value: mask(value, salt))
        found.append((number, line))
    return found


def shown_lines(kind: Kind, path: str, text: str, salt: bytes) -> list[Line]:
    """As :func:`quiet_lines`, also masking values whose names mark them as secret."""
    lines = quiet_lines(kind, path, text, salt)
    return (
        [(number, masked_line(path, line, salt)) for number, line in lines]
        if may_hold_secrets(text)
        else lines
    )


def _shown_change(change: Change) -> Change:
    before, after = unsalted(change.before), unsalted(change.after)
    secret = (before, after) != (change.before, change.after)
    path = [_MASKED.sub(MASK, step) for step in change.path]
    return Change(what=change.what, path=path, before=before, after=after, secret=secret)


def unsalted(value: Any) -> Any:
    """Masks without the suffixes that distinguish values within one comparison."""
    if isinstance(value, str):
        return _MASKED.sub(MASK, value)
    if isinstance(value, dict):
        return {name: unsalted(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return [unsalted(inner) for inner in value]
    return value


def keys_of(kind: Kind, path: str) -> Keys:
    """The kind's rules for lists whose order means nothing, for one document."""
    rules = [
        (item.path.strip("/").split("/"), item.key or "")
        for item in kind.collections
        if item.path and wanted([item.in_], path)
    ]
    whole = next(
        (item.key or "" for item in kind.collections if not item.path and wanted([item.in_], path)),
        None,
    )

    def key(at: tuple[str, ...]) -> str | None:
        if not at:
            return whole
        for steps, name in rules:
            if len(steps) == len(at) and all(
                fnmatchcase(here, step) for here, step in zip(at, steps, strict=True)
            ):
                return name
        return None

    return key


def _headings(kind: Kind, path: str, before: str, after: str) -> Callable[[int, bool], list[str]]:
    """The heading above each line, by the kind's pattern."""
    known = shapes.format_of(kind, path)
    if known is None or known.heading is None:
        return lambda _number, _theirs: []
    pattern = compiled(known.heading)
    sides = []
    for text in (before, after):
        marks = [
            (number, title)
            for number, line in enumerate(text.splitlines(), start=1)
            if (title := pattern.first(line)) is not None
        ]
        sides.append(([number for number, _ in marks], [title for _, title in marks]))

    def under(number: int, theirs: bool) -> list[str]:
        numbers, titles = sides[1 if theirs else 0]
        place = bisect_right(numbers, number)
        return [titles[place - 1]] if place else []

    return under
