"""Actions of a kind around a take: stop and start, lock and release, open and close. Each action is
recorded before it is carried out and cleared once undone, so that the next run knows what a dead
worker may have left behind.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, Iterable
from contextlib import asynccontextmanager
from dataclasses import dataclass

from fennox.core.errors import FarSideFailed, FennoxError, LeaseLost
from fennox.core.kinds.actions import Action
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.model import Kind
from fennox.core.kinds.rules import Around
from fennox.core.names import printable
from fennox.engine.journal import Journal
from fennox.engine.reading.capture import shell_of, web_of
from fennox.engine.reading.requests import body_of
from fennox.links.base import Link

Note = Callable[[list[str]], Awaitable[None]]
"""Keeps the titles of what is done and not yet undone, where they outlive this process."""


@dataclass
class Surroundings:
    """Actions of one system; ``reach`` makes a new connection if the take's has broken."""

    kind: Kind
    settings: dict[str, str]
    link: Link
    reach: Callable[[], Awaitable[Link]]
    note: Note
    journal: Journal
    left: list[str]  # titles recorded but not undone by an earlier run

    @asynccontextmanager
    async def held(self, parts: Iterable[str]) -> AsyncIterator[None]:
        """A context in which the actions for ``parts`` are in effect; undone at exit, even after an
        error.
        """
        await self._undo_what_is_left()
        wanted = [
            item for item in self.kind.around if not item.parts or set(item.parts) & set(parts)
        ]
        try:
            for item in wanted:
                await self.journal.step(item.title)
                self.left.append(item.title)
                await self.note(self.left)
                await self._carry_out(self.link, item.before, item)
            yield
        except LeaseLost:
            raise  # the run belongs to another worker, and so do its records
        except BaseException:
            await self._undo(self._noted())
            raise
        else:
            await self._undo(self._noted())

    def _noted(self) -> list[Around]:
        return [item for item in reversed(self.kind.around) if item.title in self.left]

    async def _undo_what_is_left(self) -> None:
        known = {item.title for item in self.kind.around}
        if self.left:
            await self.journal.log(
                "warning", f"An earlier run ended without undoing: {', '.join(self.left)}."
            )
            self.left = [title for title in self.left if title in known]
        left = await self._undo(self._noted())
        if left:
            raise FarSideFailed(
                f"What an earlier take did before it cannot be undone: {'; '.join(left)}",
                "Undo it on the machine.",
            )

    async def _undo(self, items: list[Around]) -> list[str]:
        """Undo in the given order; returns what could not be undone, which stays recorded."""
        failed: list[str] = []
        for item in items:
            try:
                await self._after(item)
            except FennoxError as error:
                failed.append(f"{item.title} ({error.what})")
                await self.journal.log(
                    "error", f"{item.title}: it could not be undone. {error.what}"
                )
                continue
            self.left.remove(item.title)
            await self.note(self.left)
        return failed

    async def _after(self, item: Around) -> None:
        try:
            await self._carry_out(self.link, item.after, item)
        except FennoxError as error:
            await self.journal.log(
                "warning", f"{item.title}: undone over a new connection, since {error.what}"
            )
            link = await self.reach()
            try:
                await self._carry_out(link, item.after, item)
            finally:
                await link.close()

    async def _carry_out(self, link: Link, action: Action, item: Around) -> None:
        values = values_of(self.kind, self.settings)
        if action.run is not None:
            output = await (await shell_of(link)).run(command(action.run, values), limit=item.limit)
            if output.code != 0:
                raise FarSideFailed(
                    f"{action.run[0]} ended with {output.code}: {printable(output.said())}",
                    "Check the machine.",
                )
            return
        assert action.ask is not None
        web = await web_of(link)
        answer = await web.request(
            action.ask.method,
            filled(action.ask.path, values),
            json=body_of(web, action.ask, values),
            limit=item.limit,
        )
        if answer.status >= 400:
            raise FarSideFailed(
                f"{action.ask.path} was answered with {answer.status}.", "Check the machine."
            )
