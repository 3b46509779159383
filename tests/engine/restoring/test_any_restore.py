"""Whatever people and machines do to a restore, in any order: only what its sheet showed is run,
nothing that must not be repeated is, proved is only what is there, and the way back leads back.
"""

from __future__ import annotations

import asyncio
import tempfile
from collections.abc import Coroutine
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeVar

import pytest
from hypothesis import Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from fennox.core.errors import FennoxError, LeaseLost
from fennox.core.format.manifest import KindFile
from fennox.core.kind_files.loading import load
from fennox.core.restoring.redrafting import carried_over
from fennox.core.restoring.sheet import Place, Sheet
from fennox.engine.backups.vault import Vault
from fennox.engine.restoring.targets import WhoseLogin
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential, Link
from tests.conftest import make_vault
from tests.engine.keeper import Keeper
from tests.engine.restoring.station import KIND, LOOKING, Station, StationLink

NAMES = st.sampled_from(["depth", "zero", "offset", "unit"])
VALUES = st.sampled_from(["1", "2", "3", "metres"])
HERE = Place(address="10.0.0.7:22", account="root", key="SHA256:station")
ROOT = Credential("root", password="made-up")
ONCE = "Bring the station to rest"
Told = TypeVar("Told")


@dataclass
class StationKeeper(Keeper):
    station: Station = field(default_factory=Station)

    def __post_init__(self) -> None:
        self.kind = load(KIND, lambda name: name)
        self.kind_file = KindFile(name="tide-station", version=1, text=KIND)
        self.vault.now = self.now

    async def connect(self, place: Place, whose: WhoseLogin = "after") -> Link:
        return StationLink(self.station)


class Restores(RuleBasedStateMachine):
    """``done``: the sheet as it was last saved; a worker that dies leaves nothing else."""

    def __init__(self) -> None:
        super().__init__()
        self.loop = asyncio.new_event_loop()
        self.folder = tempfile.TemporaryDirectory()
        self.station = Station()
        self.sheet: Sheet | None = None
        self.way: Sheet | None = None
        self.copy: Taken | None = None
        self.before: tuple[dict[str, str], bool] | None = None
        self.allowed_rests = 0

    def teardown(self) -> None:
        self.loop.close()
        self.folder.cleanup()

    def wait(self, coming: Coroutine[None, None, Told]) -> Told:
        return self.loop.run_until_complete(coming)

    @initialize(
        values=st.dictionaries(NAMES, VALUES, min_size=1),
        later=st.dictionaries(NAMES, VALUES, min_size=1),
    )
    def a_backup(self, values: dict[str, str], later: dict[str, str]) -> None:
        store = Path(self.folder.name) / "store"
        store.mkdir()
        vault = self.wait(make_vault(store))
        self.keeper = StationKeeper(vault, "tide-station", HERE, ROOT, {}, station=self.station)
        self.station.values = dict(values)
        self.backed_up = dict(values)
        self.taken = self.wait(self.keeper.take())
        self.station.values.clear()
        self.station.values.update(later)

    @precondition(lambda self: self.sheet is not None and self.sheet.state != "draft")
    @rule(name=NAMES, value=st.none() | VALUES)
    def somebody_changes_the_station(self, name: str, value: str | None) -> None:
        if value is None:
            self.station.values.pop(name, None)
        else:
            self.station.values[name] = value
        if not self.station.values:
            self.station.values[name] = "1"  # a station without values is none
        self.before = None  # what a person does meanwhile is not led back
        self.touched = True

    @precondition(lambda self: self.sheet is not None and self.sheet.begun())
    @rule(sound=st.booleans())
    def the_station_breaks_or_is_mended(self, sound: bool) -> None:
        self.station.sound = sound

    @precondition(lambda self: self.sheet is None)
    @rule()
    def draft(self) -> None:
        ran = list(self.station.ran)
        self.sheet = self.wait(self.keeper.draft(self.taken, HERE, ROOT))
        self.rests = self.station.ran.count("rest")
        self.allowed_rests = 1
        self.touched = False
        assert self.station.ran == ran, "a draft changes nothing"

    @precondition(lambda self: self.way is None and self.sheet and _redraftable(self.sheet))
    @rule()
    def redraft(self) -> None:
        assert self.sheet is not None
        again = self.wait(self.keeper.draft(self.taken, HERE, ROOT))
        self.sheet = carried_over(self.sheet, again)

    def at_work(self) -> Sheet | None:
        return self.way or self.sheet

    @precondition(lambda self: (one := self.at_work()) and _startable(one))
    @rule(
        dies=st.none() | st.integers(0, 12), cut=st.none() | st.integers(0, 4), after=st.booleans()
    )
    def go_on(self, dies: int | None, cut: int | None, after: bool) -> None:
        sheet = self.at_work()
        assert sheet is not None
        self._do(sheet, dies, cut, after)

    def _do(self, sheet: Sheet, dies: int | None, cut: int | None, after: bool) -> None:
        kept, count = [sheet.model_copy(deep=True)], 0

        async def save(changed: Sheet) -> None:
            nonlocal count
            if dies is not None and count >= dies:
                raise LeaseLost("Another worker has taken this run.", "Nothing.")
            count += 1
            kept.append(changed.model_copy(deep=True))
            if sheet.purpose != "return" and _saved_now(changed) and self.before is None:
                self.before = None if self.touched else self.station.state()

        self.station.cut_in, self.station.after = cut, after
        before = self.station.state()
        first = not sheet.begun() and sheet.safety is None
        try:
            of = self.copy if sheet.purpose == "return" else self.taken
            assert of is not None
            self.wait(self.keeper.restore(sheet, of, save=save))
        except (FennoxError, LeaseLost):
            pass
        finally:
            self.station.cut_in = None
        if first and kept[-1].safety is not None and sheet.purpose != "return":
            self.before = before  # nobody else was there meanwhile
            self.touched = False
        if sheet.purpose == "return":
            self.way = kept[-1]
        else:
            self.sheet = kept[-1]
        self._judge(kept[-1])

    def _judge(self, sheet: Sheet) -> None:
        if sheet.state != "proved":
            return
        assert sheet.proof is not None
        if sheet.purpose == "return":
            if self.before is not None and not self.touched:
                assert self.station.state() == self.before, "the way back leads back"
        else:
            there = {name: self.station.values.get(name) for name in self.backed_up}
            assert there == self.backed_up, "proved is only what is there"
            assert self.station.sound or "check" not in {step.do for step in sheet.steps}

    @precondition(lambda self: (one := self.at_work()) and one.open_gate() is not None)
    @rule(data=st.data())
    def answer(self, data: st.DataObject) -> None:
        sheet = self.at_work()
        assert sheet is not None
        gate = sheet.open_gate()
        assert gate is not None
        said = data.draw(st.sampled_from(gate.choices))
        if gate.kind == "unknown" and said == "not done":
            self.allowed_rests += 1
        if gate.kind == "put back" and said == "write again":
            self.allowed_rests += 1
        self.keeper.answer(sheet, said)
        sheet.state = "stopped"

    @precondition(lambda self: self.way is None and self.sheet and "undo" in self.sheet.acts())
    @rule()
    def give_up(self) -> None:
        assert self.sheet is not None
        self.sheet.give_up("harbour-admin", self.keeper.now())
        self._do(self.sheet, None, None, after=False)

    @precondition(lambda self: self.way is None and self.sheet and "prove" in self.sheet.acts())
    @rule()
    def prove_again(self) -> None:
        assert self.sheet is not None
        ran = list(self.station.ran)
        self.sheet.begin_proof_again()
        self._do(self.sheet, None, None, after=False)
        assert self.station.ran == ran, "a proof changes nothing"

    @precondition(lambda self: self.way is None and self.sheet and self.sheet.can_return())
    @rule()
    def draft_the_way_back(self) -> None:
        assert self.sheet is not None
        ran = list(self.station.ran)
        self.way, self.copy = self.wait(self.keeper.draft_way_back(self.sheet, self.taken))
        assert self.station.ran == ran, "a draft changes nothing"
        self.allowed_rests += 1

    @precondition(lambda self: self.way is not None and self.way.state == "proved")
    @rule()
    def begin_anew(self) -> None:
        self.sheet = self.way = self.copy = self.before = None

    @invariant()
    def only_what_was_shown_is_run(self) -> None:
        shown = {
            command.split("  < ")[0]
            for sheet in (self.sheet, self.way)
            if sheet is not None
            for step in [*sheet.steps, *sheet.undo]
            for command in step.commands
        }
        if self.sheet is not None:
            assert set(self.station.ran[getattr(self, "seen", 0) :]) <= shown
        else:
            self.seen = len(self.station.ran)
        assert not {line.split()[0] for line in self.station.ran} & LOOKING

    @invariant()
    def what_must_not_be_repeated_is_not(self) -> None:
        if self.sheet is not None:
            assert self.station.ran.count("rest") - self.rests <= self.allowed_rests

    @invariant()
    def a_station_at_rest_is_known_to_be(self) -> None:
        one = self.at_work()
        known = [step for sheet in (self.sheet, self.way) if sheet for step in sheet.in_force()]
        if one is not None and self.station.at_rest and one.begun():
            assert known, "the restore brought it to rest, and nothing ended that"
        if one is not None and one.state == "proved":
            assert one.in_force() == []


def _redraftable(sheet: Sheet) -> bool:
    return sheet.state in ("draft", "failed", "stopped", "not proved") and not sheet.giving_up


def _startable(sheet: Sheet) -> bool:
    if sheet.open_gate() is not None or sheet.state == "returned":
        return False
    return sheet.state in ("draft", "failed", "stopped", "running", "not proved")


def _saved_now(sheet: Sheet) -> bool:
    return sheet.steps[0].state == "done"


async def test_what_was_proved_before_a_worker_died_is_proved_again(vault: Vault) -> None:
    station = Station(values={"depth": "1"})
    keeper = StationKeeper(vault, "tide-station", HERE, ROOT, {}, station=station)
    taken = await keeper.take()
    sheet = await keeper.draft(taken, HERE, ROOT)
    await keeper.restore(sheet, taken)
    keeper.answer(sheet, "done")

    async def save(changed: Sheet) -> None:
        if changed.state == "proved":
            raise LeaseLost("Another worker has taken this run.", "Nothing.")

    with pytest.raises(LeaseLost):
        await keeper.restore(sheet, taken, save=save)
    assert sheet.proof is not None
    assert sheet.proof.proved
    station.values["depth"] = "7"  # before another worker goes on
    await keeper.restore(sheet, taken)
    assert sheet.state == "not proved"


Restores.TestCase.settings = settings(
    phases=(Phase.explicit, Phase.reuse, Phase.generate),  # shrinking would take many minutes
    max_examples=max(10, settings().max_examples // 4),
    stateful_step_count=30,
    deadline=None,
)
TestRestores = Restores.TestCase
