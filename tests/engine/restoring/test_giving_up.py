"""A restore that is given up: what was begun and can be undone is, the last first; what cannot is
left and told.
"""

from __future__ import annotations

from urllib.error import HTTPError

import pytest

from fennox.core.errors import BadInput, FarSideFailed, Unreachable
from fennox.core.kind_files.loading import load
from fennox.core.restoring.sheet import Place as Spot
from fennox.core.restoring.sheet import Sheet
from fennox.engine.backups.vault import Vault
from fennox.engine.restoring import targets
from fennox.engine.restoring.targets import WhoseLogin
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Answer, Credential, Link
from saltmere.skerry import Skerry
from tests.core.test_compare import KIND
from tests.engine.appliances import Place, place
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_storage_server import appliance, keeper_of, spot

__all__ = ["appliance", "place"]

ADMIN = Credential("admin", password="admin")


async def failed_load(
    vault: Vault, appliance: Skerry, fresh: Skerry
) -> tuple[Keeper, Taken, Sheet]:
    """A restore whose load the fresh appliance refuses, after it has entered the quiet state."""
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    sheet = await keeper.draft(taken, spot(fresh), ADMIN)
    connect = keeper.connect

    async def refusing(place: Spot, whose: WhoseLogin = "after") -> Link:
        link = await connect(place, whose)

        async def upload(*_: object, **__: object) -> Answer:
            raise FarSideFailed("It is of another model.", "Choose another.")

        setattr(link, "upload", upload)  # noqa: B010
        return link

    keeper.connect = refusing  # type: ignore[method-assign]
    with pytest.raises(FarSideFailed):
        await keeper.restore(sheet, taken)
    keeper.connect = connect  # type: ignore[method-assign]
    return keeper, taken, sheet


def is_quiet(appliance: Skerry) -> bool:
    """Out of the quiet state it refuses every load with 409, in it rubbish with 422."""
    with pytest.raises(HTTPError) as refused:
        appliance.request("POST", "/api/import", "rubbish")
    with refused.value as answer:
        return answer.code == 422


async def test_what_was_begun_is_undone_and_the_sheet_says_what_stays(
    vault: Vault, appliance: Skerry, place: Place
) -> None:
    fresh = place()
    keeper, taken, sheet = await failed_load(vault, appliance, fresh)
    assert is_quiet(fresh)
    assert [(step.title, step.state) for step in sheet.undo] == [
        ("Leave the quiet state, with what the appliance has now", "waiting")
    ]
    assert sheet.undo[0].commands == ['PUT /api/quiet {"quiet": false}'], (
        "what is sent is shown in full"
    )
    sheet.giving_up = True
    await keeper.restore(sheet, taken)
    assert (sheet.state, sheet.undo[0].state, sheet.proof) == ("given up", "done", None)
    assert not is_quiet(fresh)
    assert [step.title for step in sheet.begun() if not step.undone] == [
        "Load the export; the appliance then restarts by itself"
    ]


async def test_what_was_not_begun_is_not_undone(
    vault: Vault, appliance: Skerry, place: Place
) -> None:
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    fresh = place()
    fresh.request("PUT", "/api/quiet", {"quiet": True})  # by somebody else
    sheet = await keeper.draft(taken, spot(fresh), ADMIN)
    sheet.giving_up = True
    await keeper.restore(sheet, taken)
    assert (sheet.state, sheet.undo[0].state) == ("given up", "not needed")
    assert is_quiet(fresh)


@pytest.mark.long
async def test_an_undoing_that_fails_is_taken_up_again(
    vault: Vault, appliance: Skerry, place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(
        targets, "_COMES_BACK_WITHIN", 2.0
    )  # seconds; it does not come back by itself
    fresh = place()
    keeper, taken, sheet = await failed_load(vault, appliance, fresh)
    sheet.giving_up = True
    fresh.stop()
    with pytest.raises(Unreachable):
        await keeper.restore(sheet, taken)
    assert sheet.state == "failed"
    fresh.start()
    await keeper.restore(sheet, taken)
    assert (sheet.state, is_quiet(fresh)) == ("given up", False)


async def test_a_machine_that_never_came_to_its_new_address_is_undone_where_it_still_is(
    vault: Vault, appliance: Skerry, place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    fresh = place()
    keeper, taken, sheet = await failed_load(vault, appliance, fresh)
    keeper.kind = keeper.kind.model_copy(deep=True)  # shipped kinds are shared by all tests
    [rejoin] = [step for _, step in keeper.kind.steps() if step.do == "rejoin"]
    object.__setattr__(rejoin, "limit", 1)
    object.__setattr__(rejoin, "gone_within", 1)
    for step in sheet.steps:
        if step.do == "upload":
            step.state = "done"  # and the appliance did not move
    connect = keeper.connect

    async def never_there(to: Spot, whose: WhoseLogin = "after") -> Link:
        if to.address == sheet.after.place.address:
            raise Unreachable("No route to the new address.", "Look at its console.")
        return await connect(to, whose)

    monkeypatch.setattr(keeper, "connect", never_there)
    assert sheet.after.place.address != spot(fresh).address
    with pytest.raises(FarSideFailed, match="did not come back"):
        await keeper.restore(sheet, taken)
    assert is_quiet(fresh)
    sheet.giving_up = True
    await keeper.restore(sheet, taken)
    assert (sheet.state, is_quiet(fresh)) == ("given up", False)


@pytest.mark.parametrize(
    ("step", "why"),
    [
        ('undoes = "Nothing of the kind"\ndo = "command"\nrun = ["true"]', "is no step here"),
        ('undoes = "Look"\ndo = "check"\nrun = ["true"]', "is a command, a request or a gate"),
        ('undoes = "Look"\ndo = "command"\nrepeat = false\nrun = ["true"]', "may be repeated"),
        ('undoes = "Look"\ndo = "command"\nrun = ["{nowhere}"]', "no setting nowhere"),
    ],
)
def test_a_kind_whose_undoing_makes_no_sense_is_refused(step: str, why: str) -> None:
    check = '\n[[restore.check]]\ntitle = "Look"\ndo = "check"\nrun = ["true"]\n'
    text = KIND.replace('rebuilt_by = "hand"\n', "") + check
    load(text)
    with pytest.raises(BadInput, match=why):
        load(text + f'\n[[restore.undo]]\ntitle = "Go back"\n{step}\n')
