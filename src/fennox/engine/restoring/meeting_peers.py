"""A restored member of a replicated set and the other members, as they are now."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass

import anyio

from fennox.core.errors import FarSideFailed
from fennox.core.kinds.steps import StepModel
from fennox.core.restoring import proving, replicating
from fennox.core.restoring.replicating import Peers
from fennox.core.restoring.sheet import Sheet
from fennox.engine.journal import Journal
from fennox.engine.restoring.targets import ReachedTarget

SeePeers = Callable[[Sheet], Awaitable[Peers]]
_PAUSE = 0.5  # seconds between two looks


@dataclass
class PeerMeeting:
    """``see_peers``: reads the other members."""

    reached: ReachedTarget
    see_peers: SeePeers
    journal: Journal

    async def agree(self, within: float) -> tuple[bool, str]:
        """Whether the others have what the target has within this many seconds, and what was
        seen.
        """
        kind, ends = self.reached.kind, anyio.current_time() + within
        rule = kind.replicas
        assert rule is not None
        parts = proving.parts_holding(kind, rule.equal or rule.lists)
        while True:
            own = (await self.reached.look(parts)).census
            agrees, said = replicating.agreement(
                rule, own, await self.see_peers(self.reached.sheet)
            )
            if agrees or anyio.current_time() >= ends:
                return agrees, said
            await self.journal.check()
            await anyio.sleep(_PAUSE)

    async def must_still_win(self, model: StepModel) -> None:
        """Raises FarSideFailed if a step raises numbers, and the others have gone on further."""
        rule, plan = self.reached.kind.replicas, self.reached.sheet.replica
        raises = any("{raise}" in word for word in model.run or [])
        if rule is None or plan is None or not raises:
            return
        peers = await self.see_peers(self.reached.sheet)
        for said in replicating.unseen_now(peers):
            await self.journal.log(
                "warning", f"Whether it still wins over this one is unknown: {said}"
            )
        if late := replicating.overtaken(plan, peers, rule):
            raise FarSideFailed(late, "Draft it anew: fennox restore redraft SHEET.")
