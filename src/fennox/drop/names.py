"""Names that clients give to what they push."""

from __future__ import annotations

import posixpath

from fennox.drop.refusals import PushRefused

_LONGEST = 255  # bytes of one step, as most file systems allow
_DEEPEST = 12
_WHOLE = 1000  # bytes


def absolute(given: bytes | str) -> str:
    """A path within the jail, beginning with a slash; ``..`` ends at its root."""
    try:
        text = given.decode() if isinstance(given, bytes) else given
        text.encode()
    except UnicodeError as error:
        raise PushRefused("name", "A name must be UTF-8.") from error
    return posixpath.normpath(posixpath.join("/", text.lstrip("/")))


def cleaned(given: bytes | str) -> str:
    """As :func:`absolute`, for something that is to be made under this name."""
    name = absolute(given)
    steps = name.split("/")[1:]
    if name == "/" or not all(steps):
        raise PushRefused("name", "A file needs a name.")
    if len(name.encode()) > _WHOLE or max(len(step.encode()) for step in steps) > _LONGEST:
        raise PushRefused("name", "The name is too long.")
    if len(steps) > _DEEPEST:
        raise PushRefused("name", f"More than {_DEEPEST} folders deep.")
    if not name.isprintable():
        raise PushRefused("name", "A name may hold printable characters alone.")
    return name
