"""The target of a restore: how to reach it, with which identity, and its contents."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from contextlib import aclosing
from dataclasses import dataclass, field, replace
from typing import Literal, TypeVar

import anyio

from fennox.core.errors import FarSideFailed, FennoxError, PartUnread, TryLater, Unreachable
from fennox.core.evidence.evaluation import Census, parts_to_take
from fennox.core.kinds.expressions import filled
from fennox.core.kinds.filling import values_of
from fennox.core.kinds.literals import Phase
from fennox.core.kinds.model import Kind
from fennox.core.restoring.plan_inputs import Target
from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.backups.backup_reader import Digests, digest_of
from fennox.engine.journal import Journal
from fennox.engine.processes.evaluator_pool import Evaluates
from fennox.engine.reading.capture import Capture, identify, shell_of, web_of
from fennox.engine.reading.documents import hashed, read_documents
from fennox.engine.restoring.placing import PlaceContents
from fennox.engine.takes.take import take
from fennox.engine.takes.take_order import Subject, Taken, TakeRequest, TakeTools
from fennox.links.base import Link, Shell, Web

Told = TypeVar("Told")
WhoseLogin = Literal["target", "after", "entrance"]
Connect = Callable[[Place, WhoseLogin], Awaitable[Link]]
_CHANGING: frozenset[Phase] = frozenset(
    {"write", "finish", "rejoin"}
)  # phases in which a target's address, key or account may change
_COMES_BACK_WITHIN = 120.0  # seconds a target may be away after a step that may have restarted it
_PAUSE = 0.5  # seconds between two tries
_LOOKS_AWAY = 0.05  # seconds between two looks whether it has gone; some are away for less than one


async def look_at_target(
    kind: Kind,
    link: Link,
    place: Place,
    settings: dict[str, str],
    parts: list[str],
    evaluates: Evaluates,
) -> Target:
    """Read the target as it is now; stores nothing."""
    machine = await identify(kind, link, settings)

    async def read(some: list[str]) -> tuple[Digests, Census, PlaceContents]:
        capture, documents = Capture(kind, settings, machine), Digests()
        places = PlaceContents(capture.kind)
        async with aclosing(read_documents(link, capture, some)) as found:
            async for captured in found:
                document = await hashed(captured, places.keeper(captured))
                documents.setdefault(captured.part, {})[document.path] = digest_of(document)
        return documents, (await capture.told(some, evaluates)).counted(), places

    (documents, census, places), unread = await as_far_as_it_tells(kind, link, parts, read)
    room = await _room(kind, link, settings)
    return Target(machine, place, documents, census, room, unread, places.held, places.real)


async def save_target(tools: TakeTools, link: Link, subject: Subject, order: TakeRequest) -> Taken:
    """Take the safety copy: every part readable on the target. The backup's note names
    the others.
    """

    async def read(some: list[str]) -> Taken:
        lacking = [
            part.title
            for part in subject.kind.part
            if not part.comes_by_itself and part.name not in some
        ]
        note = f"{order.note} Not read: {', '.join(lacking)}." if lacking else order.note
        fixed = replace(order, parts=some if lacking else None, note=note)
        return await take(tools, link, subject, fixed, any_machine=True)

    taken, unread = await as_far_as_it_tells(
        subject.kind, link, parts_to_take(subject.kind, None), read
    )
    for said in unread.values():
        await tools.journal.log("warning", f"Not in the safety copy: {said}")
    return taken


async def as_far_as_it_tells(
    kind: Kind, link: Link, parts: list[str], read: Callable[[list[str]], Awaitable[Told]]
) -> tuple[Told, dict[str, str]]:
    """Read a machine that may lack programs, or whose further way is not open: parts that cannot be
    read are omitted and reported with the reason. Raises the error if no part is left.
    """
    unread: dict[str, str] = {}
    while True:
        try:
            return await read([part for part in parts if part not in unread]), unread
        except PartUnread as error:
            unread[error.part] = error.what
            if len(unread) >= len(parts):
                raise
        except FennoxError as error:
            if link.beside is None or link.beside.fault is not error:
                raise
            lacking = [part for part in parts if kind.part_named(part).needs_way(kind.other_way)]
            unread |= dict.fromkeys(lacking, error.what)
            if not lacking or len(unread) >= len(parts):
                raise


async def _room(kind: Kind, link: Link, settings: dict[str, str]) -> int | None:
    """Bytes left in the folder that must have room (POSIX ``df -P``); None: the kind names no
    folder, or the answer has no number.
    """
    if not kind.requires.room or not isinstance(link, Shell):
        return None
    told = await link.run(
        ["df", "-P", "-k", "--", filled(kind.requires.room, values_of(kind, settings))]
    )
    words = told.output.decode("utf-8", "replace").splitlines()[-1:]
    fields = words[0].split() if words and told.code == 0 else []
    return int(fields[3]) * 1024 if len(fields) >= 6 and fields[3].isdigit() else None


@dataclass
class ReachedTarget:
    """Links to the target of a sheet, each opened on first use.

    ``connect`` opens a link to a place with the target's login or the one expected afterwards.
    """

    sheet: Sheet
    kind: Kind
    settings: dict[str, str]
    journal: Journal
    connect: Connect
    evaluates: Evaluates
    _link: Link | None = field(default=None)
    _entrance: Link | None = field(default=None)

    def place(self) -> Place:
        """Its present address."""
        return self.sheet.after.place if self.sheet.rejoined else self.sheet.target

    async def look(self, parts: list[str]) -> Target:
        """Its present contents."""
        return await look_at_target(
            self.kind, await self.current(), self.place(), self.settings, parts, self.evaluates
        )

    async def see_it_go(self, within: float) -> str:
        """Wait until the machine stops answering as it did before, since whatever is asked of it
        until then is answered by what has not restarted yet. Says what was seen.
        """
        await self.close()
        if not within:
            return ""
        ends = anyio.current_time() + within
        while anyio.current_time() < ends:
            try:
                await self._answers(self.sheet.target)
            except Unreachable:
                return ", after it had gone"
            except FennoxError:
                pass  # it may refuse its login already, and has not gone
            await self.journal.check()
            await anyio.sleep(_LOOKS_AWAY)
        await self.journal.log("warning", f"It did not go away within {within:.0f} seconds.")
        return f"; it was not seen to go within {within:.0f} s"

    async def _answers(self, place: Place) -> None:
        link = await self.connect(place, "target")
        try:
            if isinstance(link, Web):  # only a request reveals whether anybody answers
                await identify(self.kind, link, self.settings)
        finally:
            await link.close()

    async def rejoin(self, limit: float) -> str:
        """Wait until the machine answers at the expected place with the expected key and login."""
        await self.close()
        self.sheet.rejoined = True
        place = self.sheet.after.place
        fault: FennoxError | None = None
        with anyio.move_on_after(limit):
            pause = 0.1
            while True:
                try:
                    self._link = await self.connect(place, self._whose_login())
                    return f"{place.account} at {place.address}"
                except FennoxError as error:  # it may be restarting and still present its old key
                    fault = error
                await self.journal.check()
                await anyio.sleep(pause)
                pause = min(pause * 1.5, 3)
        self.sheet.rejoined = False
        raise FarSideFailed(
            f"The machine did not come back at {place.address} within {limit} seconds: "
            f"{fault.what if fault else 'no answer'}",
            "Check its console; it may answer at another address.",
        )

    async def current(self) -> Link:
        if self._link is None:
            self._link = await self._reach()
        return self._link

    async def _reach(self) -> Link:
        """A link to the machine as it answers now; waits for one a step may have restarted."""
        ends = anyio.current_time() + _COMES_BACK_WITHIN
        while True:
            try:
                return await self._with_any_face()
            except TryLater:
                if not self._may_have_changed() or anyio.current_time() > ends:
                    raise
            await self.journal.check()
            await anyio.sleep(_PAUSE)

    async def _with_any_face(self) -> Link:
        """Connects with the target's own identity, or with the parts of the backup's identity
        already restored. A restore that lost its worker resumes here. By then the machine may
        present the backup's host key, know the backup's accounts, or answer at its address, all
        foretold by the sheet and accepted by a person.
        """
        fault: FennoxError | None = None
        for place, whose in self._faces():
            try:
                link = await self.connect(place, whose)
                if isinstance(link, Web) and self._may_have_changed():
                    # only a request reveals whether the login is accepted
                    await identify(self.kind, link, self.settings)
                return link
            except FennoxError as error:
                fault = fault or error
        assert fault is not None
        raise fault

    def _faces(self) -> list[tuple[Place, WhoseLogin]]:
        target, after = self.sheet.target, self.sheet.after
        if self.sheet.rejoined:
            return [(after.place, self._whose_login())]
        faces: list[tuple[Place, WhoseLogin]] = [(target, "target")]
        if self._may_have_changed():
            logins: list[WhoseLogin] = (
                ["target", "after"] if after.login == "system" else ["target"]
            )
            for address in dict.fromkeys((target.address, after.place.address)):
                for key in dict.fromkeys((target.key, after.place.key)):
                    for whose in logins:
                        account = target.account if whose == "target" else after.place.account
                        faces.append((Place(address=address, account=account, key=key), whose))
        return [face for number, face in enumerate(faces) if face not in faces[:number]]

    def _may_have_changed(self) -> bool:
        """Whether a begun step may have changed how the machine answers."""
        return any(step.phase in _CHANGING for step in self.sheet.begun())

    def _whose_login(self) -> WhoseLogin:
        return "after" if self.sheet.rejoined and self.sheet.after.login == "system" else "target"

    async def _acting(self, reach: Literal["ssh", "https"]) -> Link:
        """Where steps connect: the kind's entrance on the machine as it answers now, otherwise
        where it is read. ``reach``: how a step of this sort acts.
        """
        entrance = self.kind.restore.entrance if self.kind.restore is not None else None
        apart = entrance is not None and entrance.reach not in (reach, self.kind.reach)
        over = entrance is not None and entrance.until_rejoin and self.sheet.rejoined
        if self.sheet.entrance is None or apart or over:
            return await self.current()
        if self._entrance is None:
            place = self.sheet.entrance
            if self.sheet.rejoined:
                host = self.sheet.after.place.address.rpartition(":")[0]
                place = place.model_copy(
                    update={"address": f"{host}:{place.address.rpartition(':')[2]}"}
                )
            self._entrance = await self.connect(place, "entrance")
        return self._entrance

    async def shell(self) -> Shell:
        return await shell_of(await self._acting("ssh"))

    async def web(self) -> Web:
        return await web_of(await self._acting("https"))

    async def close(self) -> None:
        for link in (self._link, self._entrance):
            if link is not None:
                await link.close()
        self._link = self._entrance = None
