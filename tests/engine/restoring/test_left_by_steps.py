"""What a step leaves on a target until another ends it; steps that cannot be stopped; gates that
look for themselves; what a redraft keeps of a step whose end is not known.
"""

from __future__ import annotations

from dataclasses import dataclass

import pytest

from fennox.core.errors import FennoxError, Stopped
from fennox.core.format.manifest import KindFile
from fennox.core.kind_files.loading import load, mistakes
from fennox.core.restoring.redrafting import carried_over
from fennox.core.restoring.sheet import Sheet, SheetStep
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.links.base import Link, Output
from tests.engine.restoring.station import KIND, Station, StationLink
from tests.engine.restoring.test_any_restore import HERE, ROOT, StationKeeper

REST = 'title = "Bring the station to rest"\n'
WAKE = 'ends = "Bring the station to rest"\n'
SOMEBODY_LOOKS = 'do = "gate"\nask = "Look at the tide."\n'


def keeper_of(vault: Vault, kind: str = KIND) -> StationKeeper:
    keeper = StationKeeper(
        vault, "tide-station", HERE, ROOT, {}, station=Station(values={"depth": "1"})
    )
    keeper.kind = load(kind, lambda name: name)
    keeper.kind_file = KindFile(name="tide-station", version=1, text=kind)
    return keeper


async def begun(keeper: StationKeeper) -> Sheet:
    """A restore that waits at its gate; the station is at rest."""
    taken = await keeper.take()
    sheet = await keeper.draft(taken, HERE, ROOT)
    await keeper.restore(sheet, taken)
    assert sheet.state == "waiting"
    return sheet


def numbered(sheet: Sheet, title: str) -> SheetStep:
    [step] = [step for step in sheet.steps if step.title == title]
    return step


async def test_what_a_step_left_stands_until_the_step_that_ends_it(vault: Vault) -> None:
    keeper = keeper_of(vault)
    sheet = await begun(keeper)
    [left] = sheet.in_force()
    assert left.meanwhile is not None
    assert left.meanwhile.says == "The station is at rest: nobody measures the tide."
    assert keeper.last is not None
    keeper.answer(sheet, "done")
    await keeper.restore(sheet, keeper.last)
    assert sheet.state == "proved"
    assert sheet.in_force() == []


async def test_what_undoes_a_step_ends_what_it_left(vault: Vault) -> None:
    keeper = keeper_of(vault)
    sheet = await begun(keeper)
    assert keeper.last is not None
    sheet.give_up("harbour-admin", keeper.now())
    await keeper.restore(sheet, keeper.last)
    assert (sheet.state, sheet.in_force()) == ("given up", [])
    assert not keeper.station.at_rest


async def test_what_nobody_knows_the_end_of_is_told_as_left(vault: Vault) -> None:
    keeper = keeper_of(vault)
    taken = await keeper.take()
    sheet = await keeper.draft(taken, HERE, ROOT)
    keeper.station.cut_in, keeper.station.after = 0, True
    with pytest.raises(FennoxError):
        await keeper.restore(sheet, taken)
    [left] = sheet.in_force()
    assert left.state == "unknown"


async def test_a_person_releases_what_was_left_and_it_is_done_again(vault: Vault) -> None:
    keeper = keeper_of(vault)
    sheet = await begun(keeper)
    sheet.state = "stopped"
    assert "release" in sheet.acts()
    sheet.steps[1].released_by = "harbour-admin"
    assert sheet.in_force() == []
    assert "continue" not in sheet.acts(), "the steps after it need what was ended"
    assert keeper.last is not None
    again = carried_over(sheet, await keeper.draft(keeper.last, HERE, ROOT))
    assert numbered(again, "Bring the station to rest").state == "waiting"
    assert "continue" in again.acts()


async def test_a_redraft_does_not_forget_what_is_not_known_of_a_step(vault: Vault) -> None:
    """What must not be repeated was done a second time, and nobody was asked."""
    keeper = keeper_of(vault)
    taken = await keeper.take()
    sheet = await keeper.draft(taken, HERE, ROOT)
    keeper.station.cut_in, keeper.station.after = 0, True
    with pytest.raises(FennoxError):
        await keeper.restore(sheet, taken)
    again = carried_over(sheet, await keeper.draft(taken, HERE, ROOT))
    await keeper.restore(again, taken)
    gate = again.open_gate()
    assert gate is not None
    assert gate.kind == "unknown"
    assert keeper.station.ran == ["rest"]


@pytest.mark.parametrize(("answer", "rests"), [("done", 1), ("not done", 2)])
async def test_a_step_done_with_other_commands_is_done_again_if_a_person_says_so(
    vault: Vault, answer: str, rests: int
) -> None:
    """A corrected kind file did what must not be repeated a second time, and nobody was asked."""
    keeper = keeper_of(vault)
    sheet = await begun(keeper)
    otherwise = KIND.replace('"rest"]', '"rest", "gently"]')
    assert otherwise != KIND
    keeper.kind = load(otherwise, lambda name: name)
    keeper.kind_file = KindFile(name="tide-station", version=2, text=otherwise)
    assert keeper.last is not None
    again = carried_over(sheet, await keeper.draft(keeper.last, HERE, ROOT))
    await keeper.restore(again, keeper.last)
    gate = again.open_gate()
    assert gate is not None
    assert gate.question == (
        "Bring the station to rest: this was done, but what the step would send has changed since."
        " Answer done to leave it so, or not done to do it as this sheet shows it."
    )
    assert keeper.station.ran == ["rest"]
    keeper.answer(again, answer)
    await keeper.restore(again, keeper.last)
    assert keeper.station.ran == ["rest", "rest gently"][:rests]
    once_more = carried_over(again, await keeper.draft(keeper.last, HERE, ROOT))
    assert numbered(once_more, "Bring the station to rest").state == "done"


async def test_answers_follow_their_steps_into_a_redraft(vault: Vault) -> None:
    """They stood at numbers, and a new step before them made them another step's answers."""
    asks_twice = KIND.replace(
        "[[restore.prepare]]\n" + REST,
        '[[restore.prepare]]\ntitle = "Have somebody stand by"\ndo = "gate"\nask = "Stand by."\n\n'
        "[[restore.prepare]]\n" + REST,
    ).replace("version = 1", "version = 2")
    keeper = keeper_of(vault)
    sheet = await begun(keeper)
    keeper.answer(sheet, "done")
    keeper.kind = load(asks_twice, lambda name: name)
    keeper.kind_file = KindFile(name="tide-station", version=2, text=asks_twice)
    assert keeper.last is not None
    again = carried_over(sheet, await keeper.draft(keeper.last, HERE, ROOT))
    await keeper.restore(again, keeper.last)
    gate = again.open_gate()
    assert gate is not None
    assert gate.question == "Stand by."
    assert len({gate.number for gate in again.gates}) == len(again.gates)


@dataclass
class _StopsMeanwhile(StationLink):
    journal: MemoryJournal | None = None

    async def run(self, words: list[str], **rest: object) -> Output:
        if words[0] == "rest" and self.journal is not None:
            self.journal.stop = True
            await self.journal.progress()  # as a long transfer does
        return await super().run(words, **rest)  # type: ignore[arg-type]


@pytest.mark.parametrize(("stoppable", "state"), [("true", "doing"), ("false", "done")])
async def test_a_step_that_cannot_be_stopped_is_gone_through(
    vault: Vault, stoppable: str, state: str
) -> None:
    keeper = keeper_of(vault, KIND.replace(REST, f"{REST}stoppable = {stoppable}\n"))
    taken = await keeper.take()
    sheet = await keeper.draft(taken, HERE, ROOT)
    journal = MemoryJournal()

    async def connect(*_: object) -> Link:
        return _StopsMeanwhile(keeper.station, journal=journal)

    keeper.connect = connect  # type: ignore[method-assign,assignment]
    with pytest.raises(Stopped):
        await keeper.restore(sheet, taken, journal=journal)
    assert (sheet.state, numbered(sheet, "Bring the station to rest").state) == ("stopped", state)
    assert numbered(sheet, "Have somebody look").state == "waiting"


async def test_a_gate_looks_for_itself_whether_the_work_is_done(vault: Vault) -> None:
    looks = SOMEBODY_LOOKS + 'run = ["sound"]\nexpect = "^sound"\n'
    keeper = keeper_of(vault, KIND.replace(SOMEBODY_LOOKS, looks))
    keeper.station.sound = False
    sheet = await begun(keeper)
    assert keeper.last is not None
    keeper.answer(sheet, "done")
    await keeper.restore(sheet, keeper.last)
    gate = sheet.open_gate()
    assert gate is not None, "done is not believed"
    assert gate.question.startswith("The target does not show it yet: the answer is not what was")
    keeper.station.sound = True
    keeper.answer(sheet, "done")
    await keeper.restore(sheet, keeper.last)
    assert sheet.state == "proved"


async def test_a_gate_whose_work_is_done_asks_nobody(vault: Vault) -> None:
    looks = SOMEBODY_LOOKS + 'run = ["sound"]\nexpect = "^sound"\n'
    keeper = keeper_of(vault, KIND.replace(SOMEBODY_LOOKS, looks))
    taken = await keeper.take()
    sheet = await keeper.draft(taken, HERE, ROOT)
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved"
    assert numbered(sheet, "Have somebody look").detail == "nothing was left to do"


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        (WAKE, "", "no step ends what 'Bring the station to rest' begins"),
        (WAKE, 'ends = "Look"\n', "ends 'Look', which no step before it begins"),
        (WAKE, f'{WAKE}each = {{ names = "all", list = "names" }}\n', "may be left out"),
        (
            'title = "Have the station measure again"\n',
            'title = "Have the station measure again"\nparts = ["values"]\n',
            "may be left out",
        ),
        (
            'state = "mode", says',
            'state = "hold", says',
            "restarts something while 'Bring the station to rest' holds it",
        ),
        (
            'undoes = "Bring the station to rest"\n',
            'undoes = "Bring the station to rest"\nends = "Bring the station to rest"\n',
            "which are for steps forward",
        ),
    ],
)
def test_what_begins_must_end_whenever_it_began(old: str, new: str, said: str) -> None:
    restarting = 'title = "Set every value"\ndo = "command"\n'
    text = KIND.replace(restarting, restarting + "restarts = true\n")
    assert old in text
    _, found = mistakes(text.replace(old, new), lambda name: name)
    assert any(said in mistake.text for mistake in found), found


def test_a_field_that_belongs_elsewhere_is_not_said_to_be_meant() -> None:
    """Of an unknown `until` it was asked whether `until` was meant."""
    says = "nobody measures the tide."
    _, found = mistakes(KIND.replace(f'{says}" }}', f'{says}", until = 3 }}'), lambda name: name)
    [mistake] = found
    assert mistake.text == "this is not known here"
    assert mistake.remedy == "It belongs elsewhere, or take it out."
