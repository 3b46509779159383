"""What the engine wants of the receiving end."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import AbstractAsyncContextManager
from datetime import datetime
from typing import Protocol

from fennox.core.evidence.pushes import Arrival


class Drop(Protocol):
    """What one system has pushed and no backup holds yet. ``fingerprint``: of the drop's host key,
    where it matters.
    """

    fingerprint: str

    def arrivals(self) -> list[Arrival]: ...

    def content(self, arrival: Arrival) -> AsyncIterator[bytes]:
        """Raises ``Damaged`` at its end if it is no longer what arrived."""

    def now(self) -> datetime: ...

    def taken(self, arrivals: list[Arrival]) -> None:
        """These are in the backup that is being made."""


class Offered(Protocol):
    """Documents that lie at the drop for a target to fetch, and how it comes to them. ``count``
    and ``size``: of these documents.
    """

    host: str
    port: int
    account: str
    secret: str
    fingerprint: str
    count: int
    size: int

    def was_read(self) -> int:
        """Bytes that have been fetched."""


class OffersDocuments(Protocol):
    """Where documents can be laid out."""

    def laid_out(
        self, documents: AsyncIterator[tuple[str, AsyncIterator[bytes]]], lasts: float
    ) -> AbstractAsyncContextManager[Offered]:
        """Documents by their names; they are gone afterwards, at the latest after ``lasts``
        seconds.
        """
