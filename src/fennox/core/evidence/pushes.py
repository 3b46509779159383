"""Whether what a system has pushed is whole, by the rule of its kind. Pure."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Literal

from fennox.core.kinds.expressions import wanted
from fennox.core.kinds.pushes import Push
from fennox.core.regexes import compiled

DIGESTS = {32: "md5", 40: "sha1", 64: "sha256", 96: "sha384", 128: "sha512"}
"""Algorithms of manifests, by the length of what they give as hex."""

CarriedProtocol = Literal["sftp", "ftps"]
"""What the worker of a site carries to the receiving end without reading it."""


@dataclass(frozen=True)
class Arrival:
    """A file at the drop. ``ended``: when it had arrived whole; None: it is still being written, or
    broke off (``problem``).
    """

    id: str
    name: str
    size: int
    begun: datetime
    ended: datetime | None
    problem: str = ""


@dataclass(frozen=True)
class Whole:
    """All of a push, in the order of the names."""

    arrivals: list[Arrival]


@dataclass(frozen=True)
class StillComing:
    """It may still become whole; ``until``: when to look again, None: when something arrives."""

    until: datetime | None


@dataclass(frozen=True)
class Lacking:
    """It is quiet, and not whole: ``says`` what is missing or wrong."""

    says: list[str]


@dataclass(frozen=True)
class Told:
    """What a manifest says: names, and the digest of each, or an empty one."""

    digests: Mapping[str, str] = field(default_factory=dict)


def patterns_of(push: Push) -> list[str]:
    manifest = [push.manifest.file] if push.manifest is not None else []
    return [*push.files, *manifest, *push.perhaps]


def belongs(push: Push, name: str) -> bool:
    """Whether a file of this name is part of such a push."""
    return wanted(patterns_of(push), name)


def told_by(push: Push, content: str) -> Told:
    """What a manifest lists. Lines that do not fit are passed over: they may be headings."""
    assert push.manifest is not None
    names, found = compiled(push.manifest.names), {}
    digests = compiled(push.manifest.digests) if push.manifest.digests is not None else None
    for line in content.splitlines():
        if name := names.first(line):
            digest = digests.first(line) if digests is not None else None
            found[name.removeprefix("./").lstrip("/")] = (digest or "").lower()
    return Told(found)


def judge(
    push: Push, arrivals: Iterable[Arrival], told: Told | None, now: datetime
) -> Whole | StillComing | Lacking | None:
    """None: nothing of it is there. ``told``: by its manifest, if that has arrived."""
    mine = sorted((one for one in arrivals if belongs(push, one.name)), key=lambda one: one.name)
    if not mine:
        return None
    quiet_from = max(one.ended or one.begun for one in mine) + timedelta(seconds=push.quiet)
    if any(one.ended is None and not one.problem for one in mine):
        return StillComing(None)
    # a moment further ahead than that is of a clock that has gone back since, and would never come
    if now < quiet_from <= now + timedelta(seconds=push.quiet):
        return StillComing(quiet_from)
    arrived = [one for one in mine if one.ended is not None]
    says = list(_lacks(push, arrived, told))
    says += [f"{one.name} broke off: {one.problem}" for one in mine if one.problem]
    return Lacking(says) if says else Whole(arrived)


def _lacks(push: Push, arrived: Sequence[Arrival], told: Told | None) -> Iterable[str]:
    names = [one.name for one in arrived]
    if push.manifest is not None and not any(wanted([push.manifest.file], n) for n in names):
        yield f"{push.manifest.file}, which lists the others, has not arrived."
    for pattern in push.files:
        if not any(wanted([pattern], name) for name in names):
            yield f"Nothing has arrived that fits {pattern}."
    if told is not None and push.manifest is not None:
        if not told.digests:
            yield f"{push.manifest.file} lists nothing."
        yield from (
            f"{name} is listed, and has not arrived." for name in told.digests if name not in names
        )
    if push.count is not None and len(names) != push.count:
        yield f"It should be {push.count} files, and {len(names)} have arrived."


def digest_wanted(told: Told | None, name: str) -> tuple[str, str] | None:
    """The algorithm's name in hashlib and the digest that the manifest tells of a file, if it
    does.
    """
    return algorithm_of(told.digests.get(name, "") if told is not None else "")


def algorithm_of(digest: str) -> tuple[str, str] | None:
    """The algorithm's name in hashlib, and the digest; None: it is none that is known here."""
    algorithm = DIGESTS.get(len(digest))
    if algorithm is None or algorithm not in hashlib.algorithms_available:
        return None
    return algorithm, digest.lower()
