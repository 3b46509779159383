"""The only types of name that a store, a device path or a noun of ours accepts.

Names that come from outside are parsed here, once, and are harmless afterwards: no parent steps, no
absolute object names, no control characters, nothing that an ordinary file system treats specially.
"""

from __future__ import annotations

import re
from typing import Annotated, NewType
from urllib.parse import quote

from pydantic import AfterValidator

from fennox.core.errors import BadInput

ObjectName = NewType("ObjectName", str)
"""A checked name of an object in a store: relative, ``/``-separated, at most 240 bytes
(store-format section 2.2).
"""

_SEGMENT = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,119}\Z")
_NOUN = re.compile(r"[a-z0-9][a-z0-9-]{0,47}\Z")
_HEX_ID = re.compile(r"[0-9a-f]{32}\Z")

MAX_DEVICE_PATH = 4096  # bytes; PATH_MAX of Linux


def object_name(text: str) -> ObjectName:
    """Check a name for a store object. Segments match ``[A-Za-z0-9][A-Za-z0-9._-]*`` and are at
    most 120 bytes.
    """
    segments = text.split("/")
    if len(text) > 240 or not all(_SEGMENT.match(segment) for segment in segments):
        raise BadInput(
            f"{text[:80]!r} is not a name that a store accepts.", "Use the names the format makes."
        )
    return ObjectName(text)


def document_name(name: str) -> str:
    """A listed name as a part of a document's name."""
    return quote(name, safe=" @:+=,")


def is_object_name(text: str) -> bool:
    try:
        object_name(text)
    except BadInput:
        return False
    return True


def _noun(text: str) -> str:
    if not _NOUN.match(text):
        raise ValueError(
            f"{text[:60]!r} cannot be a name: use 1 to 48 lower-case letters, digits and hyphens, "
            "beginning with a letter or digit"
        )
    return text


Noun = Annotated[str, AfterValidator(_noun)]
"""A name a person gives to a system, store, login, routine or backup: lower-case letters, digits,
hyphens.
"""


def noun(text: str) -> str:
    """As :data:`Noun`, for callers outside a model."""
    try:
        return _noun(text)
    except ValueError as error:
        raise BadInput(f"{error}.", "Choose another name.") from error


def hex_id(text: str) -> str:
    """Check a 128-bit id in lower-case hex."""
    if not _HEX_ID.match(text):
        raise BadInput(f"{text[:40]!r} is not an id.", "Ids are 32 hexadecimal digits.")
    return text


def folder_name(system_name: str, system_id: str) -> str:
    """The folder of a system in a store, fixed at its first backup (store-format section 2.3)."""
    return f"{noun(system_name)}-{hex_id(system_id)[:8]}"


def device_path(raw: bytes) -> str:
    """Check an absolute path that a far side reported, and return it as text.

    Bytes that are not UTF-8 are kept as surrogate escapes, so that ``os.fsencode`` gives the same
    bytes back. Parent steps, NUL and over-long paths are refused: such a name is never written to a
    device.
    """
    if not raw.startswith(b"/") or len(raw) > MAX_DEVICE_PATH or b"\0" in raw:
        raise BadInput(
            f"{printable(raw[:80])} is not an absolute path of at most 4096 bytes.",
            "It is left out.",
        )
    if any(segment in (b"..", b".") for segment in raw.split(b"/")):
        raise BadInput(f"{printable(raw[:80])} steps to a parent folder.", "It is left out.")
    return raw.decode("utf-8", "surrogateescape")


def printable(raw: bytes | str) -> str:
    """Text that is safe on a terminal: control characters and broken bytes become visible
    escapes.
    """
    text = raw.decode("utf-8", "surrogateescape") if isinstance(raw, bytes) else raw
    if text.isprintable():
        return text
    return "".join(
        c if c.isprintable() else c.encode("unicode_escape", "surrogatepass").decode() for c in text
    )
