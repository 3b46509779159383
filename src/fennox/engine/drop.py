"""What the engine wants of the receiving end."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import datetime
from typing import Protocol

from fennox.core.evidence.pushes import Arrival


class Drop(Protocol):
    """What one system has pushed and no backup holds yet."""

    def arrivals(self) -> list[Arrival]: ...

    def content(self, arrival: Arrival) -> AsyncIterator[bytes]:
        """Raises ``Damaged`` at its end if it is no longer what arrived."""

    def now(self) -> datetime: ...

    def taken(self, arrivals: list[Arrival]) -> None:
        """These are in the backup that is being made."""
