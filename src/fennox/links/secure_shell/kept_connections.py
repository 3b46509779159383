"""Keeping connections open after a run for the next one, if an administrator enabled it."""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict
from collections.abc import Hashable
from dataclasses import dataclass, field

from fennox.links.secure_shell.ssh import SshLink

_MOST = 2000  # connections; beyond that the longest idle one is closed
# seconds; a connection proves its login only once, so it must not live too long
_OLDEST = 24 * 3600.0
_SURE = 20.0  # seconds; after a longer idle time the machine is probed first
_ANSWER = 10.0  # seconds


@dataclass(frozen=True)
class _Idle:
    link: SshLink
    since: float
    timer: asyncio.TimerHandle


@dataclass
class KeptLinks:
    """Idle connections, keyed by all their parameters, so that any other request gets another one.
    ``seconds``: longest idle time; 0: keep none.
    """

    seconds: float
    _idle: OrderedDict[Hashable, _Idle] = field(default_factory=OrderedDict, repr=False)
    _closing: set[asyncio.Task[None]] = field(default_factory=set, repr=False)

    async def take(self, made_with: Hashable) -> SshLink | None:
        """An idle, live connection, for exclusive use until it is closed, which returns it."""
        idle = self._drop(made_with)
        if idle is None:
            return None
        link = idle.link
        try:
            if time.monotonic() - idle.since > _SURE:
                await link.is_there(_ANSWER)
        finally:
            # no answer, or the caller was cancelled: either makes it unusable
            if not self._fit(link):
                self._close(link)
        return link if self._fit(link) else None

    def keep(self, made_with: Hashable, link: SshLink) -> SshLink:
        """Make the link's ``close`` return it here, unless something failed on it."""

        async def give_back(used: SshLink) -> None:
            self._give_back(made_with, used)

        if self.seconds > 0:
            link.closer, link.stays = give_back, True
        return link

    async def close(self) -> None:
        for made_with in list(self._idle):
            self._expire(made_with)
        await asyncio.gather(*self._closing, return_exceptions=True)

    def _give_back(self, made_with: Hashable, link: SshLink) -> None:
        if made_with in self._idle or not self._fit(link):
            self._close(link)
            return
        timer = asyncio.get_running_loop().call_later(self.seconds, self._expire, made_with)
        self._idle[made_with] = _Idle(link, time.monotonic(), timer)
        if len(self._idle) > _MOST:
            self._expire(next(iter(self._idle)))

    @staticmethod
    def _fit(link: SshLink) -> bool:
        return link.usable and time.monotonic() - link.since < _OLDEST

    def _expire(self, made_with: Hashable) -> None:
        idle = self._drop(made_with)
        if idle is not None:
            self._close(idle.link)

    def _drop(self, made_with: Hashable) -> _Idle | None:
        idle = self._idle.pop(made_with, None)
        if idle is not None:
            idle.timer.cancel()
        return idle

    def _close(self, link: SshLink) -> None:
        task = asyncio.get_running_loop().create_task(link.disconnect())
        self._closing.add(task)
        task.add_done_callback(self._closing.discard)
