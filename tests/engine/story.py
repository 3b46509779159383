"""The story that every kind of real system must tell: taken, changed, taken, lost, restored
elsewhere, proved.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.backups.vault import Vault
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential
from saltmere.linux import LinuxServer
from tests.engine.keeper import Keeper

Truth = Mapping[str, object]


@dataclass(frozen=True)
class Story:
    """One real system. ``truth``: what the running program itself says of its configuration, never
    the backup.
    """

    kind: str
    install: Callable[[LinuxServer], None]
    configure: Callable[[LinuxServer], None]
    change: Callable[[LinuxServer], None]
    truth: Callable[[LinuxServer], Truth]
    settings: Mapping[str, str]
    census: Mapping[str, int]  # names in some lists, as configured
    changes: list[str] = field(
        default_factory=list
    )  # what a comparison says of the change, and nothing else
    own_settings: Callable[[LinuxServer], Mapping[str, str]] = (
        lambda _: {}
    )  # those that only the server can tell


def place_of(server: LinuxServer) -> Place:
    return Place(address=f"{server.host}:{server.port}", account="root", key=server.host_key)


def keeper_of(story: Story, vault: Vault, server: LinuxServer, private_key: str) -> Keeper:
    return Keeper(
        vault,
        story.kind,
        place_of(server),
        Credential("root", private_key=private_key),
        {**story.settings, **story.own_settings(server)},
    )


async def to_the_end(keeper: Keeper, sheet: Sheet, taken: Taken, fresh: LinuxServer) -> None:
    """Do the sheet, answering every gate as a person would."""
    await keeper.restore(sheet, taken)
    while (gate := sheet.open_gate()) is not None:
        if "packages" in gate.question:
            fresh.set_packages(tuple(taken.head.census["packages"]))
        keeper.answer(sheet, gate.choices[0])
        await keeper.restore(sheet, taken)
