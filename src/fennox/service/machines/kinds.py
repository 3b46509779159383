"""Shipped and added kinds, as known to one process."""

from __future__ import annotations

from dataclasses import dataclass, field
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
            text = self.text(name)
            kind = load_kind(text, self.text)
            file = KindFile(name=name, version=kind.version, text=loading.whole(text, self.text))
            self._kinds[name] = (kind, file)
        return self._kinds[name]

    def installed(self, name: str) -> Kind | None:
        """As :meth:`kind`; None if unknown here, as for an adopted backup."""
        return self.kind(name)[0] if name in self._kinds or name in self.names() else None

    def text(self, name: str) -> str:
        """The text of a kind: the newest added version, or the shipped one."""
        if name in self._added_kinds:
            return self._added_kinds[name]
        path = files("fennox").joinpath(f"kinds/{name}.toml")
        if not name.replace("-", "").isalnum() or not path.is_file():
            raise BadInput(
                f"There is no kind {name}.",
                f"There are: {', '.join(self.names())}.",
                field="kind",
            )
        return path.read_text(encoding="utf-8")

    def shipped(self) -> set[str]:
        names = (entry.name for entry in files("fennox").joinpath("kinds").iterdir())
        return {name.removesuffix(".toml") for name in names if name.endswith(".toml")}

    def names(self) -> list[str]:
        return sorted(self.shipped() | self._added_kinds.keys())

    async def learn(self, session: AsyncSession) -> None:
        """Read kinds added since, possibly by another process."""
        rows = (
            await session.execute(select(KindRow).order_by(KindRow.name, KindRow.version))
        ).scalars()
        self._added_kinds = {row.name: row.text for row in rows}
        self._kinds.clear()
