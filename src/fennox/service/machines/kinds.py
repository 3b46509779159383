"""Shipped and added kinds, as known to one process."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache
from importlib.resources import files

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fennox.catalogue.models.systems import KindRow
from fennox.core.errors import BadInput
from fennox.core.format.manifest import KindFile
from fennox.core.kind_files import loading
from fennox.core.kind_files.loading import load as load_kind
from fennox.core.kinds.model import Kind


@dataclass
class Kinds:
    """Kinds by name, each with its text as stored in backups."""

    _kinds: dict[str, tuple[Kind, KindFile]] = field(default_factory=dict)
    _added_kinds: dict[str, str] = field(default_factory=dict)

    def kind(self, name: str) -> tuple[Kind, KindFile]:
        """A shipped or added kind, with its text as stored in backups."""
        if name not in self._kinds:
            # shipped kinds build on shipped ones, so they change only where one is replaced
            as_shipped = not self._added_kinds.keys() & self.shipped()
            if as_shipped and name in self.shipped():
                self._kinds[name] = _as_shipped(name)
            else:
                self._kinds[name] = _read(self.text(name), self.text)
        return self._kinds[name]

    def installed(self, name: str) -> Kind | None:
        """As :meth:`kind`; None if unknown here, as for an adopted backup."""
        return self.kind(name)[0] if name in self._kinds or name in self.names() else None

    def text(self, name: str) -> str:
        """The text of a kind: the newest added version, or the shipped one."""
        if name in self._added_kinds:
            return self._added_kinds[name]
        if name not in self.shipped():
            raise BadInput(
                f"There is no kind {name}.",
                f"There are: {', '.join(self.names())}.",
                field="kind",
            )
        return _shipped_text(name)

    def shipped(self) -> frozenset[str]:
        return _shipped_names()

    def names(self) -> list[str]:
        return sorted(self.shipped() | self._added_kinds.keys())

    async def learn(self, session: AsyncSession) -> None:
        """Read kinds added since, possibly by another process."""
        rows = (
            await session.execute(select(KindRow).order_by(KindRow.name, KindRow.version))
        ).scalars()
        added = {row.name: row.text for row in rows}
        if added != self._added_kinds:
            self._added_kinds = added
            self._kinds.clear()


@cache
def _shipped_names() -> frozenset[str]:
    names = (entry.name for entry in files("fennox").joinpath("kinds").iterdir())
    return frozenset(name.removesuffix(".toml") for name in names if name.endswith(".toml"))


def _shipped_text(name: str) -> str:
    return files("fennox").joinpath(f"kinds/{name}.toml").read_text(encoding="utf-8")


@cache
def _as_shipped(name: str) -> tuple[Kind, KindFile]:
    return _read(_shipped_text(name), _shipped_text)


def _read(text: str, texts: loading.Texts) -> tuple[Kind, KindFile]:
    kind = load_kind(text, texts)
    return kind, KindFile(name=kind.name, version=kind.version, text=loading.whole(text, texts))
