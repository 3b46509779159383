"""Making a machine on a host, and taking it away: steps there, one after the other."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass

import anyio

from fennox.core.deploying.deployment import Deployment, MakingStep
from fennox.core.deploying.planning_machine import model_of, new_machine
from fennox.core.errors import FarSideFailed, FennoxError, LeaseLost, Stopped, TryLater
from fennox.core.format.manifest import Finding
from fennox.core.kinds.commands import command
from fennox.core.kinds.expressions import filled, json_values
from fennox.core.kinds.model import Kind
from fennox.core.kinds.new_machines import HostTells
from fennox.core.kinds.steps import StepModel
from fennox.core.names import printable
from fennox.core.regexes import compiled
from fennox.engine.backups.vault import Now
from fennox.engine.journal import Journal
from fennox.engine.reading.capture import shell_of, web_of
from fennox.engine.reading.requests import answered_json, body_of, one_value, poll_until
from fennox.links.base import Link

_PAUSE = 0.5  # seconds between two looks


@dataclass
class MachineMaking:
    """``host``: the kind of the host, as the deployment was drafted with it. ``save`` keeps how far
    it is before and after each step.
    """

    deployment: Deployment
    host: Kind
    link: Link
    journal: Journal
    now: Now
    save: Callable[[Deployment], Awaitable[None]]

    async def unmet(self) -> list[Finding]:
        """What the host must be and is not. Another machine of the same name is never touched."""
        found = []
        name = self.deployment.name
        if name in (await self._answers(new_machine(self.host).names)):
            found.append(
                Finding(
                    severity="blocker",
                    code="machine-there",
                    subject=name,
                    text=f"There is a machine {name} on {self.deployment.host_name} already.",
                    remedy="Draft again with another name: --value name=NAME.",
                )
            )
        for step in new_machine(self.host).must:
            met, detail = await self._look(step)
            if not met:
                text = f"The host does not pass: {step.title}" + (
                    f" ({detail})." if detail else "."
                )
                remedy = "Mend that on the host, or choose other values, and draft again."
                found.append(
                    Finding(
                        severity="blocker",
                        code="host-unfit",
                        subject=step.title,
                        text=text,
                        remedy=remedy,
                    )
                )
        return found

    async def make(self) -> None:
        """All steps that are not done, then what the host tells of the machine. Raises
        FarSideFailed.
        """
        if not self.deployment.begun() and (found := await self.unmet()):
            raise FarSideFailed(found[0].text, found[0].remedy)
        for step in self.deployment.steps:
            await self._do(step)
        made = new_machine(self.host)
        await self.journal.step("Wait until the machine is awake")
        self.deployment.address = await self._told(made.address, "where the machine answers")
        self.deployment.key = await self._told(
            made.key, "the machine's key", address=self.deployment.address
        )

    async def take_away(self) -> int:
        """Undo what was begun; the number of steps."""
        due = self.deployment.to_undo()
        for step in due:
            if model_of(self.host, step).request is not None and not await self._is_there():
                step.state, step.detail = "done", "there was none of that name"
                continue
            await self._do(step)
        return len(due)

    async def _is_there(self) -> bool:
        return self.deployment.name in await self._answers(new_machine(self.host).names)

    async def _do(self, step: MakingStep) -> None:
        if step.state == "done":
            return
        await self.journal.check()
        await self.journal.step(step.title)
        step.state, step.started, step.ended, step.detail = "doing", self.now(), None, ""
        await self.save(self.deployment)
        try:
            await self._carry_out(model_of(self.host, step))
        except (LeaseLost, Stopped):
            raise
        except FennoxError as error:
            step.state, step.ended, step.detail = "failed", self.now(), str(error)
            await self.save(self.deployment)
            raise
        step.state, step.ended = "done", self.now()
        await self.save(self.deployment)

    async def _carry_out(self, model: StepModel) -> None:
        values = self.deployment.placeholders()
        if model.do == "check":
            await self._check(model)
        elif model.run is not None:
            words = command(model.run, values)
            output = await (await shell_of(self.link)).run(words, limit=model.limit)
            if output.code not in model.codes:
                raise FarSideFailed(
                    f"{model.title}: {words[0]} ended with {output.code}:"
                    f" {printable(output.said())}",
                    "Look at the host, then continue, or take away what was made.",
                )
        else:
            await self._request(model, values)

    async def _request(self, model: StepModel, values: dict[str, str]) -> None:
        assert model.request is not None
        web = await web_of(self.link)
        if model.poll is None and model.until is not None:
            await poll_until(web, model.request, model.until, values, self.journal.check)
            return
        answer = await web.request(
            model.request.method,
            filled(model.request.path, values),
            json=body_of(web, model.request, values),
            limit=model.limit,
        )
        if model.poll is not None and model.until is not None:
            if model.job is not None:
                values = {**values, "job": one_value(model.job, answer.body, "the answer")}
            await poll_until(web, model.poll, model.until, values, self.journal.check)

    async def _check(self, model: StepModel) -> None:
        ends = anyio.current_time() + model.within
        passed, detail = await self._look(model)
        while not passed and anyio.current_time() < ends:
            await self.journal.check()
            await anyio.sleep(_PAUSE)
            passed, detail = await self._look(model)
        if not passed:
            raise FarSideFailed(
                f"{model.title}: not so" + (f": {detail}" if detail else "."),
                "Look at the host, then continue, or take away what was made.",
            )

    async def _look(self, model: StepModel) -> tuple[bool, str]:
        """Whether it is so now, and what was seen if not."""
        values = self.deployment.placeholders()
        try:
            if model.run is not None:
                output = await (await shell_of(self.link)).run(
                    command(model.run, values), limit=model.limit
                )
                if output.code not in model.codes:
                    return False, printable(output.said())
                text = output.output.decode("utf-8", "replace")
            else:
                assert model.request is not None
                path = filled(model.request.path, values)
                answer = await (await web_of(self.link)).request(model.request.method, path)
                text = answer.body.decode("utf-8", "replace")
        except TryLater:
            raise
        except FennoxError as error:
            return False, error.what
        if model.expect is not None and not compiled(model.expect).fits(text):
            return False, "the answer is not what was expected"
        return True, ""

    async def _answers(self, tells: HostTells, **also: str) -> list[str]:
        """All that it tells now. Raises FarSideFailed where it tells nothing that is understood."""
        values = {**self.deployment.placeholders(), **also}
        if tells.run is not None:
            output = await (await shell_of(self.link)).run(command(tells.run, values))
            said = output.output.decode("utf-8", "replace")
            if output.code:
                raise FarSideFailed(printable(output.said()), "Look at the host.")
            return [one.strip() for one in compiled(tells.regex or "").drawn(said)]
        assert tells.request is not None
        path = filled(tells.request.path, values)
        answer = await (await web_of(self.link)).request(tells.request.method, path)
        return json_values(tells.jsonpath or "", answered_json(answer.body, path))

    async def _told(self, tells: HostTells, what: str, **also: str) -> str:
        """Ask until the host tells it, or the time is over."""
        ends = anyio.current_time() + tells.within
        while True:
            await self.journal.check()
            why = ""
            try:
                if found := next(filter(None, await self._answers(tells, **also)), ""):
                    return found
            except TryLater:
                raise
            except FennoxError as error:
                why = error.what
            if anyio.current_time() >= ends:
                raise FarSideFailed(
                    f"The host did not tell {what} within {tells.within} seconds"
                    + (f": {why}" if why else "."),
                    "Look at the machine's console, then continue, or take away what was made.",
                )
            await anyio.sleep(_PAUSE)
