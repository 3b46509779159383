"""Store addresses as one line of text (RFC 3986), never with a secret or an account."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, get_args
from urllib.parse import parse_qsl, quote, unquote, urlencode, urlsplit

from fennox.core import urls
from fennox.core.errors import BadInput
from fennox.links.base import Address

Scheme = Literal["file", "sftp", "ftp", "ftps", "s3", "dav", "davs"]

PORTS: dict[str, int] = {"sftp": 22, "ftp": 21, "ftps": 21, "dav": 80, "davs": 443}
PLAIN = ("ftp", "dav")  # everything sent to these, including the login, can be read in transit
_S3_OPTIONS = {"endpoint", "region", "style", "lock-days"}
_MOST_LOCK_DAYS = 3660  # nobody can undo a lock, so a typing mistake must not last
_EXAMPLES = (
    "Write a folder like /srv/backups, or sftp://host/folder, ftps://host/folder,"
    " ftp://host/folder, s3://bucket/prefix?endpoint=https://host, davs://host/folder or"
    " dav://host/folder."
)


@dataclass(frozen=True)
class StoreAddress:
    """``path`` is absolute on the far side, without a slash at its end; for ``s3`` it is the
    prefix, maybe empty.
    """

    scheme: Scheme
    host: str
    port: int
    path: str
    options: dict[str, str] = field(default_factory=dict)

    @property
    def plain(self) -> bool:
        """Whether login and content names travel unprotected."""
        return self.scheme in PLAIN or self.options.get("endpoint", "").startswith("http://")

    @property
    def machine(self) -> Address:
        return Address(self.host, self.port)

    def at(self, path: str) -> StoreAddress:
        """The same far side at another folder."""
        return StoreAddress(self.scheme, self.host, self.port, path.rstrip("/"), self.options)

    def __str__(self) -> str:
        """The canonical form: two addresses are the same place if their texts are equal."""
        if self.scheme == "file":
            return self.path
        path = quote(self.path)
        if self.scheme == "s3":
            options = (
                f"?{urlencode(sorted(self.options.items()), safe=':/')}" if self.options else ""
            )
            return f"s3://{self.host}{path}{options}"
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = "" if self.port == PORTS[self.scheme] else f":{self.port}"
        return f"{self.scheme}://{host}{port}{path}"


def parse(text: str) -> StoreAddress:
    """Read an address; :class:`BadInput` says what is wrong with it."""
    if text.startswith("/"):
        return _folder(text)
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError as error:
        raise _wrong(text, "is not an address") from error
    if parts.scheme not in get_args(Scheme):
        raise _wrong(text, "is neither an absolute folder nor an address that a store can have")
    if parts.username is not None or parts.password is not None:
        raise BadInput(
            "An address never holds an account or a password.",
            "Keep them as a login (`fennox login add`) and give the store that login.",
            field="address",
        )
    path = unquote(parts.path)
    if "\0" in path or ".." in path.split("/") or parts.fragment:
        raise _wrong(text, "has a path that no store can have")
    if parts.scheme == "file":
        return _folder(path) if not parts.netloc else _refuse(text)
    if parts.hostname is None:
        raise _wrong(text, "names no bucket" if parts.scheme == "s3" else "names no host")
    if parts.scheme == "s3":
        return _bucket(text, parts.netloc, path, parts.query)
    if parts.query:
        raise _wrong(text, "has options, which only s3 addresses have")
    scheme: Scheme = parts.scheme  # type: ignore[assignment]  # held against the Scheme above
    return StoreAddress(scheme, parts.hostname, port or PORTS[scheme], "/" + path.strip("/"))


def _folder(path: str) -> StoreAddress:
    if "\0" in path or ".." in path.split("/"):
        raise _wrong(path, "is not a plain absolute folder")
    cleaned = "/" + "/".join(step for step in path.split("/") if step not in ("", "."))
    return StoreAddress("file", "", 0, cleaned)


def _bucket(text: str, bucket: str, path: str, query: str) -> StoreAddress:
    options = dict(parse_qsl(query, keep_blank_values=True))
    if unknown := options.keys() - _S3_OPTIONS:
        raise _wrong(
            text,
            f"has an unknown option {sorted(unknown)[0]!r}; there are"
            f" {', '.join(sorted(_S3_OPTIONS))}",
        )
    if not options.get("endpoint", "https://").startswith(("http://", "https://")):
        raise _wrong(text, "has an endpoint that is no http:// or https:// address")
    endpoint = urls.split(options.get("endpoint", "https://any"))
    if not endpoint.hostname:
        raise _wrong(text, "has an endpoint that names no host")
    if options.get("style", "path") not in ("path", "virtual"):
        raise _wrong(text, "has a style that is neither path nor virtual")
    days = options.get("lock-days", "1")
    if not days.isascii() or not days.isdigit() or not 1 <= int(days) <= _MOST_LOCK_DAYS:
        raise _wrong(text, f"has lock-days that are not a number from 1 to {_MOST_LOCK_DAYS}")
    if "@" in options.get("endpoint", ""):
        raise BadInput(
            "An endpoint never holds an account.", "Keep it as a login.", field="address"
        )
    prefix = "/".join(step for step in path.split("/") if step)
    return StoreAddress("s3", bucket, 443, f"/{prefix}" if prefix else "", options)


def _wrong(text: str, why: str) -> BadInput:
    return BadInput(f"{text[:120]!r} {why}.", _EXAMPLES, field="address")


def _refuse(text: str) -> StoreAddress:
    raise _wrong(text, "names a host, where a file address has none")
