"""Selectors of systems: ``all``, or terms that must all match."""

from __future__ import annotations

import re

from sqlalchemy import ColumnElement, and_

from fennox.catalogue.models.systems import System
from fennox.core.errors import BadInput

PROTECTED = and_(System.retired.is_(None), ~System.spare)
"""Systems for which the estate answers: those in use that are no spares."""

_TERM = re.compile(r"(kind|site|label|name)=([A-Za-z0-9._ -]+)\Z")


def check_selector(text: str) -> None:
    """``all``, or terms that must all match. Empty never means everything."""
    for term in _terms(text):
        if term != "all" and not _TERM.match(term):
            raise BadInput(
                f"{term!r} does not say which systems.",
                "Write `all`, or terms like `kind=linux-server site=holm label=web`.",
                field="systems",
            )


def _terms(text: str) -> list[str]:
    terms = text.split()
    if not terms:
        raise BadInput(
            "The systems are missing.", "Write `all` if you mean all of them.", field="systems"
        )
    return terms


def selects(text: str, system: System) -> bool:
    for term in _terms(text):
        match = _TERM.match(term)
        if match is None:
            continue  # `all`; anything else was rejected when the routine was made
        field, value = match.groups()
        fits = value in system.labels if field == "label" else getattr(system, field) == value
        if not fits:
            return False
    return True


def selected(text: str) -> list[ColumnElement[bool]]:
    """As :func:`selects`, for the database."""
    return [
        System.labels.contains([value]) if field == "label" else getattr(System, field) == value
        for field, value in terms(text)
    ]


def takes(text: str, system: System) -> bool:
    """Whether a routine with this selector takes the system. Spares are never taken."""
    return not system.spare and selects(text, system)


def taken(text: str) -> list[ColumnElement[bool]]:
    """As :func:`takes`, for the database."""
    return [~System.spare, *selected(text)]


def terms(text: str) -> list[tuple[str, str]]:
    """Field and value of each term; empty for ``all``."""
    return [
        (match[1], match[2]) for term in _terms(text) if (match := _TERM.match(term)) is not None
    ]
