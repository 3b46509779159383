"""What a comparison or trace never shows, even if the author of a kind forgot to name it. Pure.

By where a document is (files of password hashes), by what stands in it (private keys), and by what
a value is called: something that ends with the word password, secret, token or key, in any
spelling. Hiding too much costs a person a look at the machine; hiding too little cannot be taken
back.
"""

from __future__ import annotations

import json
import re
from fnmatch import fnmatchcase
from hashlib import blake2b
from typing import Any

from fennox.core.compare.model import MASK

_DOCUMENTS = ("*/shadow", "*/shadow-", "*/gshadow", "*/gshadow-", "*/master.passwd")
_PRIVATE_KEY = re.compile(rb"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY|^PuTTY-User-Key-File-", re.M)
_KEY_BLOCK = re.compile(
    r"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY.*?(?:-----END [A-Z0-9 ]{0,40}PRIVATE KEY-----|\Z)", re.S
)
_MASKED = re.compile(re.escape(MASK) + r"[0-9a-f]{16}")
_SECRET = frozenset(
    {
        "password",
        "passwd",
        "passphrase",
        "passwort",
        "pass",
        "pwd",
        "pw",
        "secret",
        "token",
        "key",
        "psk",
        "credential",
        "credentials",
        "requirepass",
        "masterauth",
    }
)
_JOINED = (
    "password",
    "passwd",
    "passphrase",
    "secret",
    "token",
    "apikey",
    "privatekey",
    "secretkey",
    "accesskey",
)
"""Endings of names that are written without anything between their words."""
_HINTS = ("pass", "pwd", "pw", "secret", "token", "key", "psk", "credential", "masterauth")
"""A text without any of these, in small letters, needs no closer look."""
# characters; a longer line is hidden as a whole if it may hold a secret
_LONG = 20_000
_WORDS = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|[0-9]+")
_ROOTS = "boot|data|dev|etc|home|lib|media|mnt|opt|proc|root|run|srv|sys|tmp|usr|var"
_PATH = re.compile(rf"[\"']?(?:~|/(?:{_ROOTS}))/[^\s'\"]*[\"']?[;,]?$")
"""Where a secret lies; a token may begin with a slash as well, so that only folders that are known
count.
"""
_NAMED = re.compile(r"(?<![\w.@-])[\"']?([A-Za-z_@][\w.@-]{0,80})[\"']?\s*[=:]\s*")
_VALUE = re.compile(
    r"\"[^\"]*\"?|'[^']*'?|"
    r"(?:[^\s;,&}\])]|[;,&}\])](?![;,&}\])]{0,8}(?:\s|$)|[\"']?[A-Za-z_@][\w.@-]{0,80}[\"']?\s*[=:]))+"
)
"""To a sign that ends a value: one before a space, the end of the line, or another name and its
value. A password may hold such signs itself, at its beginning too.
"""
_FIRST = re.compile(
    r"^(?:\s*(?:-\s+|export\s+|set\s+)?)[\"']?([A-Za-z_@][\w.@-]{0,80})[\"']?(\s*[=:]\s*|\s+)(\S.*)$"
)
_NO_SECRETS = ("*/pam.d/*", "*/nsswitch.conf", "*/known_hosts*", "*/authorized_keys*", "*.pub")
"""Where ``password`` and ``key`` are words of another trade."""


def mask(value: str, salt: bytes) -> str:
    """Equal values get equal masks within one comparison; a mask reveals nothing of its value."""
    return (
        MASK + blake2b(value.encode("utf-8", "surrogatepass"), key=salt, digest_size=8).hexdigest()
    )


def is_secret(path: str, *contents: bytes) -> bool:
    """Whether only the fact of a change may be shown for this document."""
    return any(fnmatchcase(path, pattern) for pattern in _DOCUMENTS) or any(
        map(_PRIVATE_KEY.search, contents)
    )


def names_a_secret(name: str) -> bool:
    words = [word.lower() for word in _WORDS.findall(name)]
    if not words or words[0] in ("public", "pub", "authorized"):
        return False
    return words[-1] in _SECRET or words[-1].endswith(_JOINED)


def masked_value(path: str, value: Any, salt: bytes) -> Any:
    """A copy of a JSON structure with values masked whose names mark them as secret."""
    if _passes(path):
        return value
    return _masked(value, salt)


def may_hold_secrets(text: str) -> bool:
    low = text.lower()
    return any(hint in low for hint in _HINTS)


def holds_secrets(path: str, value: Any) -> bool:
    return bool(masked_value(path, value, b"") != value)


def masked_line(path: str, line: str, salt: bytes) -> str:
    """A line of text with secrets masked by their names; where the rest of the line is the secret,
    to its end.
    """
    if not may_hold_secrets(line) or _passes(path):
        return line
    if len(line) > _LONG:
        return mask(line, salt)
    first = _FIRST.match(line)
    if first is not None:
        name, between, value = first.groups()
        told_by = names_a_secret(name) and (between.strip() or not name.lower().endswith("key"))
        if (
            told_by
            and value.strip() != "{"
            and not _PATH.match(value)
            and not value.startswith(MASK)
        ):
            return line[: first.start(3)] + mask(value, salt)
    return _masked_inline(line, salt)


def without_secrets(text: str) -> str:
    """A program's error text, with secrets hidden by their names or forms."""
    shown = _KEY_BLOCK.sub("(a private key)", text)
    return _MASKED.sub(MASK, "\n".join(masked_line("", line, b"") for line in shown.split("\n")))


def _masked_inline(line: str, salt: bytes) -> str:
    """Names and values may be anywhere, such as in a URL that is itself a value."""
    told: list[str] = []
    at = 0
    while (named := _NAMED.search(line, at)) is not None:
        told.append(line[at : named.end()])
        at = named.end()
        value = _VALUE.match(line, at)
        if (
            value is None
            or not names_a_secret(named.group(1))
            or _plain(value.group())
            or value.group() in "{[("
        ):
            continue
        told.append(mask(value.group(), salt))
        at = value.end()
    return "".join([*told, line[at:]])


def _passes(path: str) -> bool:
    return any(fnmatchcase(path, pattern) for pattern in _NO_SECRETS)


def _masked(value: Any, salt: bytes) -> Any:
    if isinstance(value, dict):
        pair = any(names_a_secret(str(value.get(title, ""))) for title in ("name", "key", "@name"))
        return {
            name: (
                _hidden(inner, salt)
                if names_a_secret(str(name)) or (pair and name in ("value", "@value"))
                else _masked(inner, salt)
            )
            for name, inner in value.items()
        }
    if isinstance(value, list):
        return [_masked(inner, salt) for inner in value]
    return value


def _hidden(value: Any, salt: bytes) -> Any:
    """Masks the value of a secret name. A path to a secret is not a secret; neither is yes or
    no.
    """
    if isinstance(value, dict):
        return _masked(value, salt)
    if isinstance(value, list):
        return [_hidden(inner, salt) for inner in value]
    if (
        value is None
        or isinstance(value, bool)
        or value == ""
        or (isinstance(value, str) and _plain(value))
    ):
        return value
    return mask(json.dumps(value, sort_keys=True), salt)


def _plain(value: str) -> bool:
    return bool(_PATH.match(value)) or value.startswith(MASK)
