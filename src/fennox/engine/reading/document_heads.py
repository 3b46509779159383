"""A document's head, from a machine's description of a file. Impossible values are dropped and
reported.
"""

from __future__ import annotations

import base64
import os
import stat
import tarfile
from functools import lru_cache

from fennox.core.errors import BadInput
from fennox.core.format.manifest import Document, Finding
from fennox.core.names import device_path, printable
from fennox.engine.reading.capture import Capture

_NAME_FIELD = 32  # bytes of an owner's name in GNU tar


_KINDS = {
    tarfile.REGTYPE: "file",
    tarfile.AREGTYPE: "file",
    tarfile.DIRTYPE: "folder",
    tarfile.SYMTYPE: "link",
}


def document_of(info: tarfile.TarInfo, capture: Capture) -> Document | None:
    raw = b"/" + os.fsencode(info.name).removeprefix(b"./").strip(b"/")
    try:
        path = device_path(raw)
    except BadInput as error:
        name = printable(raw[:200])
        capture.left_out.append(name)
        remedy = "Rename it, or leave it out."
        capture.findings.append(
            Finding(
                severity="warning",
                code="strange-name",
                subject=name,
                text=error.what,
                remedy=remedy,
            )
        )
        return None
    kind = _KINDS.get(info.type)
    if kind is None:
        capture.left_out.append(printable(raw))  # devices, sockets and pipes are not configuration
        return None
    shown, raw_path = _shown(path)
    link, raw_link = _shown(info.linkname) if kind == "link" else (None, None)
    return Document.model_validate(
        {
            "path": shown,
            "raw_path": raw_path,
            "type": kind,
            "size": info.size if kind == "file" else 0,
            "mode": stat.S_IMODE(info.mode),
            "uid": info.uid,
            "gid": info.gid,
            "owner": _name(info.uname),
            "group": _name(info.gname),
            "modified": int(info.mtime),
            "link": link,
            "raw_link": raw_link,
        }
    )


@lru_cache(maxsize=4096)
def _name(text: str) -> str | None:
    """An owner's or group's name. A name that fills its field may be truncated; then only the
    number is used.
    """
    return printable(text) if 0 < len(os.fsencode(text)) < _NAME_FIELD else None


def _shown(path: str) -> tuple[str, str | None]:
    """A path or link target as text, and its bytes in base64 if they are not UTF-8."""
    try:
        path.encode("utf-8")
    except UnicodeEncodeError:
        return printable(path), base64.b64encode(os.fsencode(path)).decode()
    return path, None
