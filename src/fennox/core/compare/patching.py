"""A comparison as one JSON Patch (RFC 6902)."""

from __future__ import annotations

from jsonpointer import JsonPointer

from fennox.core.compare.model import Comparison, DocumentChange

Operation = dict[str, object]


def as_patch(comparison: Comparison) -> list[Operation]:
    """Operations on an object part → document → ``attributes`` and ``content``.

    ``content`` is the parsed structure or the lines, without noise and with secrets masked. It is
    null if it cannot be shown or the document is new.
    """
    found: list[Operation] = []
    for document in comparison.documents:
        here = JsonPointer.from_parts([document.part, document.path]).path
        match document.what:
            case "added":
                found.append(
                    {"op": "add", "path": here, "value": {"attributes": {}, "content": None}}
                )
            case "removed":
                found.append({"op": "remove", "path": here})
            case "changed":
                found += _changed(document, here)
    return found


def _changed(document: DocumentChange, here: str) -> list[Operation]:
    found: list[Operation] = [
        {"op": "replace", "path": f"{here}/attributes/{change.path[0]}", "value": change.after}
        for change in document.attributes
    ]
    if document.said:
        return [*found, {"op": "replace", "path": f"{here}/content", "value": None}]
    for operation in document.patch:
        moved: Operation = {
            name: f"{here}/content{operation[name]}"
            for name in ("path", "from")
            if name in operation
        }
        found.append({**operation, **moved})
    return found
