"""Following one value, object or document through backups. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import jsonpath_rfc9535

from fennox.core.compare import documents, shapes
from fennox.core.compare.sensitive import holds_secrets, is_secret, mask, masked_value
from fennox.core.errors import BadInput
from fennox.core.format.primitives.digest import blake2b_256
from fennox.core.kinds.expressions import wanted
from fennox.core.kinds.model import Kind


@dataclass(frozen=True)
class Question:
    """A document by its path, or values in it: a JSONPath (RFC 9535) in its structure, or lines
    that contain a text.

    Otherwise ``list`` names a census list. Plain text instead of a pattern, since a pattern may
    never finish.
    """

    document: str = ""
    jsonpath: str = ""
    line: str = ""
    list: str = ""

    def check(self) -> None:
        """Raise :class:`BadInput` for an expression that does not compile."""
        if bool(self.document) == bool(self.list) or (self.jsonpath and self.line):
            raise BadInput(
                "Give a document, with a JSONPath or a line if you like, or a list.",
                "One of the two.",
            )
        try:
            if self.jsonpath:
                jsonpath_rfc9535.compile(self.jsonpath)
        except jsonpath_rfc9535.JSONPathError as error:
            raise BadInput(
                f"The JSONPath does not compile: {error}", "RFC 9535 describes it."
            ) from error


def values(kind: Kind, question: Question, content: bytes, salt: bytes) -> tuple[list[Any], str]:
    """The matching values, masked where hidden; or a sentence why none can be shown."""
    path = question.document
    if is_secret(path, content) and not documents.rest_is_open(kind, path):
        return [], f"The document is secret: {mask(blake2b_256(content), salt)}"
    read = shapes.read(kind, path, content)
    if read.shape == "bytes":
        return [], "The document is no text."
    hidden = [rule for rule in kind.hidden if wanted([rule.in_], path)]
    structured = read.shape != "text"
    if any((rule.jsonpath is not None) != structured for rule in hidden):
        return [], "The document holds secrets, and cannot be read as its kind expects."
    if question.jsonpath:
        if not structured:
            return [], "The document has no structure that a JSONPath could be looked for in."
        value = masked_value(path, documents.quiet_value(kind, path, read, salt), salt)
        return [node.value for node in jsonpath_rfc9535.find(question.jsonpath, value)], ""
    if structured and (hidden or holds_secrets(path, read.value)):
        return [], "The document holds secrets in its structure; look for a JSONPath in it."
    text = content.decode("utf-8")  # a structure has lines as well
    return [
        line for _, line in documents.shown_lines(kind, path, text, salt) if question.line in line
    ], ""
