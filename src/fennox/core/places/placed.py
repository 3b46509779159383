"""Values of the place on a run sheet: what belongs to a machine and its site rather than to the
system.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from fennox.core.compare.model import DocumentChange
from fennox.core.kinds.literals import PlaceOf
from fennox.core.places.sheet_model import SheetModel

PlaceChoice = Literal["backup", "target", "given"]


class PlaceEntry(SheetModel):
    """One value at three moments. ``key``: distinguishes several values of a document, such as the
    mount point of a row; empty: the only one. None: there is no such value.
    """

    part: str
    document: str
    key: str
    backup: str | None
    target: str | None
    after: str | None
    row: str | None = None  # the target's whole row, to be added


class PlaceValue(SheetModel):
    """``chosen``: by a person; otherwise the purpose of the restore decided."""

    name: str
    title: str
    of: PlaceOf
    choice: PlaceChoice
    chosen: bool
    whole: bool  # whole documents
    entries: list[PlaceEntry]

    def differs(self) -> bool:
        """Whether backup and target have different values."""
        return any(entry.backup != entry.target for entry in self.entries)


class RewrittenDocument(SheetModel):
    """A document that is written with values of the place. ``digest`` and ``size``: of what is
    written. ``change``: from the backup's to that, with secrets masked.
    """

    part: str
    path: str
    digest: str
    size: int
    change: DocumentChange


class KeptDocument(SheetModel):
    """A document of the backup that is not written, or one of the target that stays in its place.
    ``target``: the target's, as a fingerprint; None: the target has none.
    """

    part: str
    path: str
    target: str | None


class Placed(SheetModel):
    """What a restore writes otherwise than the backup holds it. ``lists``: census lists that
    therefore come out otherwise.
    """

    given: dict[str, str] = {}  # a person's choices, as they were given
    values: list[PlaceValue] = []
    rewritten: list[RewrittenDocument] = []
    kept: list[KeptDocument] = []
    lists: dict[str, list[str]] = {}
    only: dict[str, list[str]] = {}  # of a census list the names that a person chose: these alone
    expected: dict[str, str] = {}  # address, account and key, where a rewritten document sets them

    def keeps(self, part: str, path: str) -> bool:
        return any(one.part == part and one.path == path for one in self.kept)

    def rewrites(self, part: str, path: str) -> RewrittenDocument | None:
        return next((one for one in self.rewritten if (one.part, one.path) == (part, path)), None)

    def of_document(self, part: str, path: str) -> Iterator[tuple[str, PlaceEntry]]:
        """Entries that change this document, with the names of their rules."""
        for value in self.values:
            if not value.whole:
                for entry in value.entries:
                    if (entry.part, entry.document) == (part, path) and entry.backup != entry.after:
                        yield value.name, entry
