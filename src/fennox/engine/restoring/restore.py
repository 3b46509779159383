"""Executing a run sheet step by step; every state is saved before and after, so that it can
resume.
"""

from __future__ import annotations

from contextlib import nullcontext
from dataclasses import dataclass

from fennox.core.errors import FennoxError, LeaseLost, Stopped, TryLater
from fennox.core.restoring import plan_steps
from fennox.core.restoring.sheet import Gate, GateKind, Sheet, SheetStep
from fennox.core.words import first_few, size
from fennox.engine.restoring.put_back import asks_whether_it_was_put_back
from fennox.engine.restoring.step_verbs import StepVerbs


@dataclass
class RestoreUnderWay(StepVerbs):
    """One restore being done.

    ``connect`` opens a link to a place with the target's login or the one expected afterwards;
    ``save`` makes the sheet durable and raises :class:`LeaseLost` if the run is no longer ours;
    ``take_safety`` takes the safety copy; ``see_old_machine`` checks whether the machine to be
    replaced is alive again.
    """

    async def go_on(self) -> Sheet:
        """Execute steps until the sheet is done, fails, or waits for a person; if it was given up,
        undo its steps.
        """
        self.sheet.state = "running"
        if not self.sheet.giving_up:
            self.sheet.begin_proof_again()  # what was proved before a death may have changed since
        try:
            if await asks_whether_it_was_put_back(
                self._reached, self._backup
            ) or not await self._do_all(
                self._to_undo() if self.sheet.giving_up else self.sheet.steps
            ):
                self.sheet.state = "waiting"
            elif self.sheet.giving_up:
                self.sheet.state = "given up"
            else:
                assert self.sheet.proof is not None
                self.sheet.state = "proved" if self.sheet.proof.proved else "not proved"
        except LeaseLost:
            raise
        except Stopped:
            self.sheet.state = "stopped"
            raise
        except FennoxError:
            self.sheet.state = "failed"
            raise
        finally:
            await self._reached.close()
            await self.save(self.sheet)
        return self.sheet

    async def _do_all(self, steps: list[SheetStep]) -> bool:
        """Whether all are done; otherwise one waits for a person."""
        for step in steps:
            if step.state in ("done", "not needed"):
                continue
            await self.journal.check()  # whoever asked to stop does not find it waiting instead
            if await self._must_wait(step):
                return False
            await self._do(step)
        return True

    def _to_undo(self) -> list[SheetStep]:
        needed = self.sheet.to_undo()
        for step in self.sheet.undo:
            if step not in needed:
                step.state = "not needed"
        return needed

    async def _must_wait(self, step: SheetStep) -> bool:
        """Whether a gate must be answered before this step."""
        if step.state in ("doing", "unknown") and not step.repeat:
            gate = self._ask_whether_done(step)
            step.state = "unknown"
            if gate.answer is None:
                return True
            step.state, step.answered = "done" if gate.answer == "done" else "waiting", gate.number
            step.done_otherwise = False
        if step.do == "gate" and step.state != "done" and await self._waits_at(step):
            return True
        if self._begins_to_write(step):
            await self._ask_about_old_machine()
        return step.do not in ("safety", "look") and self._is_asked(
            "undo" if self.sheet.giving_up else "facts"
        )

    def _begins_to_write(self, step: SheetStep) -> bool:
        writing = [one for one in self.sheet.steps if one.phase == "write"]
        return step in writing and all(one.state == "waiting" for one in writing)

    async def _ask_about_old_machine(self) -> None:
        """A gate may have waited all night, so check again whether the old machine answers."""
        if self._is_asked("facts"):
            return
        seen = await self.see_old_machine(self.sheet)
        if seen:
            question = f"Before anything is written: {' '.join(seen)}"
            self.sheet.ask_anew("facts", None, question, ["accept"])

    async def _waits_at(self, step: SheetStep) -> bool:
        """Whether a person has not answered yet, or a check shows that the work is not done."""
        unasked = self.sheet.gate_of("step", step.number) is None
        if unasked and self._is_verified(step) and not await self._not_yet(step):
            return False  # a step before it has done it, or it was so before
        gate = self.sheet.ask("step", step.number, step.commands[-1], ["done"])
        if gate.answer is None:
            return True
        lacking = await self._not_yet(step) if gate.answer == "done" else ""
        if lacking:
            question = f"{lacking} Answer done when that is mended, or skip to go on without."
            self.sheet.ask_anew("step", step.number, question, ["done", "skip"])
        return bool(lacking)

    def _is_verified(self, step: SheetStep) -> bool:
        model = self._model(step)
        return self._lists_what_is_missing(step) or (model.run or model.request) is not None

    async def _not_yet(self, step: SheetStep) -> str:
        """What the machine itself shows not to be done, as a sentence; empty: nothing."""
        if lacking := await self._still_lacking(step):
            return f"The target still lacks: {first_few(lacking, 8)}."
        model = self._model(step)
        if model.run is None and model.request is None:
            return ""
        await self.journal.step(f"Check whether it is done: {step.title}")
        passed, detail = await self._look_until(model)
        return "" if passed else f"The target does not show it yet: {detail}."

    def _lists_what_is_missing(self, step: SheetStep) -> bool:
        each = self._model(step).each
        return each is not None and each.names == "missing"

    async def _still_lacking(self, step: SheetStep) -> list[str]:
        """Items a person was to add that the machine itself does not list."""
        model = self._model(step)
        if not self._lists_what_is_missing(step):
            return []
        await self.journal.step(f"Check whether it is done: {step.title}")
        target = await self._reached.look(self.sheet.parts)
        now = plan_steps.names_for(self.kind, model, await self._backup.head(), target.census)
        return [name for name in step.names if name in now]

    def _ask_whether_done(self, step: SheetStep) -> Gate:
        """An answer applies to the attempt before it, never to a later one."""
        gate = self.sheet.gate_of("unknown", step.number)
        if gate is None or gate.number == step.answered:
            question = (
                f"{step.title}: this was done, but what the step would send has changed since."
                " Answer done to leave it so, or not done to do it as this sheet shows it."
                if step.done_otherwise
                else f"It is not known whether this was done: {step.title}."
            )
            gate = self.sheet.ask_anew("unknown", step.number, question, ["done", "not done"])
        return gate

    def _is_asked(self, kind: GateKind) -> bool:
        return any(gate.kind == kind and gate.answer is None for gate in self.sheet.gates)

    async def _do(self, step: SheetStep) -> None:
        if step.state == "done":
            return
        await self._backup.make_ready()
        await self.journal.step(f"{step.title} ({size(step.size)})" if step.size else step.title)
        step.state, step.started, step.detail = "doing", self.now(), ""
        await self.save(self.sheet)
        try:
            with nullcontext() if step.stoppable else self.journal.unstoppable():
                step.detail = await self._carry_out(step)
        except (LeaseLost, Stopped):
            raise
        except FennoxError as error:
            # it may have been done nevertheless
            cut = isinstance(error, TryLater) and not step.repeat
            step.state, step.ended, step.detail = (
                "unknown" if cut else "failed",
                self.now(),
                str(error),
            )
            raise
        step.state, step.ended = "done", self.now()
        await self.save(self.sheet)
