"""A kind in sentences, for people who must know what it takes and by which rules, but never write
one.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterator

from fennox.core.kinds.model import Kind
from fennox.core.kinds.pushes import Push
from fennox.core.kinds.sources import Expression, PartModel

_VERSION = {
    "same": "the same version",
    "same-major": "the same major version",
    "not-older": "a version that is not older",
    "any": "any version",
}


def documents(part: PartModel) -> list[str]:
    """The sources of a part's documents, one line each."""
    found = []
    for source in part.source:
        if source.files is not None:
            without = f" without {', '.join(source.without)}" if source.without else ""
            settled = (
                f", each {source.settled} seconds after it was last written"
                if source.settled
                else ""
            )
            named = f", of these what {source.named_by.in_} names" if source.named_by else ""
            found.append(f"files {', '.join(source.files)}{without}{named}{settled}")
        elif source.run is not None:
            lines = [line for line in shlex.join(source.run).splitlines() if line.strip()]
            more = " …" if len(lines) > 1 else ""
            each = f", for each line of {shlex.join(source.each)}" if source.each else ""
            made = (
                f"; a routine asks again once any of {', '.join(source.made_from)} has changed"
                if source.made_from
                else ""
            )
            found.append(f"{source.document}: what {lines[0]}{more} says{each}{made}")
        elif source.hand is not None:
            found.append(
                f"{source.document}: handed in by people, every {source.hand.every} days:"
                f" {source.hand.how}"
            )
        elif source.push is not None:
            found.append(_pushed(source.push))
        elif source.ask is not None:
            found.append(
                f"{source.document}: the answer to {source.ask.fetch.method}"
                f" {source.ask.fetch.path}"
            )
    return found


def _pushed(push: Push) -> str:
    names = ", ".join([*push.files, *(f"perhaps {name}" for name in push.perhaps)])
    asked = "by itself" if push.start is None else "when it is asked"
    due = f", at least every {push.every} hours" if push.every else ""
    listed = f"; whole with what {push.manifest.file} lists" if push.manifest else ""
    counted = f"; {push.count} files" if push.count else ""
    return f"{names}: pushed {asked}{due}{listed}{counted}, taken after {push.quiet} quiet seconds"


def versions(kind: Kind) -> list[str]:
    """What a target must have of the programs whose version counts."""
    return [
        f"Of {program.title} a target must have {_VERSION[program.version]}."
        for program in kind.programs
    ]


def rules(kind: Kind) -> list[str]:
    """What must exist, what must not, what a target must match, and what a comparison ignores or
    hides.
    """
    return list(_rules(kind))


def _rules(kind: Kind) -> Iterator[str]:
    for item in kind.completeness:
        yield f"Needed: {_where(item.needs)}. Without it: {item.lost}"
    for doubt in kind.doubts:
        yield f"Not wanted: {_where(doubt.finds)}. {doubt.means}."
    for reference in kind.references:
        yield (
            f"Paths that {reference.paths.in_} names ({reference.title}) must each be in the"
            " backup."
        )
    needs = kind.requires
    product = "the same product" if needs.product == "same" else "any product"
    platform = "the same platform" if needs.platform == "same" else "any platform"
    yield f"A target must be {product}, {_VERSION[needs.version]}, {platform}."
    if needs.names:
        yield f"A target must have every name of {', '.join(needs.names)} already."
    if needs.room:
        yield f"It must have room in {needs.room}."
    if kind.replicas is not None:
        yield f"The hosts in {kind.replicas.list} replicate with it. {kind.replicas.means}"
        if kind.replicas.numbers is not None:
            yield "A restore asks whose copy wins, and shows how far each one is."
    if kind.beside is not None:
        yield f"Some of it is reached by {kind.beside.reach}, by the login of {kind.beside.login}."
    for name, names in kind.defaults.items():
        yield f"Every fresh installation has, of {name}: {', '.join(names)}."
    for around in kind.around:
        where = f" of {', '.join(around.parts)}" if around.parts else ""
        yield (
            f"Around every take{where}: {around.title[0].lower()}{around.title[1:]}; undone however"
            " the take ends."
        )
    yield from versions(kind)
    for place in kind.place:
        yield f"It belongs to the place: {place.title} ({place.name}), in {', '.join(place.in_)}."
    guard = kind.guard
    yield (
        f"A backup is doubted if a list lost more than {guard.share:.0%} of its names, and at least"
        f" {guard.least}."
    )
    if guard.required:
        yield f"It is doubted as well if one of these is empty: {', '.join(guard.required)}."
    for noise in kind.noise:
        yield f"A comparison passes over {noise.in_}: {noise.title[0].lower()}{noise.title[1:]}."
    for collection in kind.collections:
        where = f"{collection.path} in {collection.in_}" if collection.path else collection.in_
        yield (
            f"The order of {where} means"
            f" nothing{f'; its members go by {collection.key}' if collection.key else ''}."
        )
    for hidden in kind.hidden:
        yield f"Never shown of {hidden.in_}: what {hidden.jsonpath or hidden.lines} fits."


def _where(expression: Expression) -> str:
    return (
        f"something in {expression.in_}"
        if expression.names is None
        else f"a document {expression.in_}"
    )
