"""Restores onto fresh machines that lose their worker at every step, are taken up again each time,
and end proved.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable

import anyio
import pytest

from fennox.core.errors import LeaseLost
from fennox.core.restoring.sheet import Sheet
from fennox.engine.backups.vault import Vault
from fennox.engine.takes.take_order import Taken
from fennox.links.base import Credential
from saltmere.linux import SSH_RESTART, LinuxServer, new_key_pair
from saltmere.skerry import Skerry
from tests.engine.appliances import place
from tests.engine.keeper import Keeper
from tests.engine.restoring.test_storage_server import PASSWORD, spot
from tests.engine.stories import PROGRAMS, STORIES
from tests.engine.story import Story, keeper_of, place_of

__all__ = ["place"]

Install = Callable[..., LinuxServer]


class Mortal(Keeper):
    """A keeper whose restores die where they would save their sheet, once at every ``every``-th
    place.
    """

    every = 1

    async def restore_to_the_end(
        self, sheet: Sheet, taken: Taken, answer: Callable[[Sheet], str]
    ) -> tuple[Sheet, int]:
        """The sheet as it was saved last, and how often the restore died on the way."""
        died: set[tuple[str, ...]] = set()
        seen: set[tuple[str, ...]] = set()
        stored, alive = sheet.model_copy(deep=True), True

        async def save(changed: Sheet) -> None:
            nonlocal stored, alive
            here = tuple(step.state for step in changed.steps)
            if alive and changed.state == "running" and here not in seen:
                seen.add(here)
                if len(seen) % self.every == 0:
                    died.add(here)
                    alive = False
            if not alive:
                raise LeaseLost("The worker died.", "")
            stored = changed.model_copy(deep=True)

        while stored.state not in ("proved", "not proved"):
            alive = True
            try:
                await self.restore(stored.model_copy(deep=True), taken, save=save)
            except LeaseLost:
                continue
            if (gate := stored.open_gate()) is not None:
                gate.answer, gate.by, gate.at = answer(stored), "harbour-admin", self.now()
        return stored, len(died)


def mortal(keeper: Keeper) -> Mortal:
    return Mortal(keeper.vault, keeper.kind_name, keeper.place, keeper.login, keeper.settings)


async def lost_and_restored(
    keeper: Mortal, taken: Taken, fresh: LinuxServer, private: str
) -> tuple[Sheet, int]:
    sheet = await keeper.draft(taken, place_of(fresh), Credential("root", private_key=private))
    assert sheet.blockers() == []

    def answer(stored: Sheet) -> str:
        gate = stored.open_gate()
        assert gate is not None
        assert gate.kind != "put back", "nobody has put the target back"
        if "packages" in gate.question:
            fresh.set_packages(tuple(taken.head.census["packages"]))
        return gate.choices[0]  # of what is not known to be done: it was done, and only not saved

    done, deaths = await keeper.restore_to_the_end(sheet, taken, answer)
    assert done.state == "proved", (
        [item for item in done.proof.lists if item.missing] if done.proof else done
    )
    return done, deaths


async def test_a_linux_server_with_another_key_and_other_accounts(
    vault: Vault, install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    server.configure("ticket", files=6)
    login = Credential("root", private_key=key_pair[0])
    keeper = Mortal(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})
    taken = await keeper.take()
    server.lose()
    private, public = new_key_pair(
        "fresh-root"
    )  # the fresh machine knows another login, and shows another host key
    fresh = install("debian", public)
    done, deaths = await lost_and_restored(keeper, taken, fresh, private)
    assert deaths >= 2 * (len(done.steps) - 2)
    assert place_of(fresh).key == done.after.place.key == keeper.place.key
    keeper.place = done.after.place
    assert await keeper.who() == done.target_machine


@pytest.mark.parametrize("story", STORIES, ids=lambda story: story.kind)
@pytest.mark.long
async def test_a_real_system(
    story: Story,
    vault: Vault,
    install: Install,
    key_pair: tuple[str, str],
    request: pytest.FixtureRequest,
) -> None:
    if shutil.which(PROGRAMS[story.kind], path="/usr/bin:/usr/sbin") is None:
        pytest.skip(
            f"SKIPPED: {PROGRAMS[story.kind]} is not installed, so the kind {story.kind} is not"
            " proved"
        )
    server = install("web-9")
    story.install(server)
    story.configure(server)
    keeper = mortal(keeper_of(story, vault, server, key_pair[0]))
    keeper.every = int(request.config.getoption("--points"))
    taken = await keeper.take()
    with anyio.fail_after(60):  # Prometheus looks for what it watches only after a moment
        while (truth := story.truth(server)).get("targets") == []:  # noqa: ASYNC110 - it is the program that knows
            await anyio.sleep(0.2)
    server.lose()
    private, public = new_key_pair("fresh-root")
    fresh = install("fresh", public)
    story.install(fresh)
    await lost_and_restored(keeper, taken, fresh, private)
    with anyio.fail_after(60):  # some programs look for what they watch only after a moment
        while story.truth(fresh) != truth:  # noqa: ASYNC110 - it is the program that knows
            await anyio.sleep(0.2)


@pytest.mark.long
async def test_an_appliance_that_answers_elsewhere_afterwards(
    vault: Vault, place: Callable[[], Skerry]
) -> None:
    appliance = place()
    appliance.configure("quay", "keeper", PASSWORD)
    login = Credential("keeper", password=PASSWORD)
    keeper = Mortal(vault, "storage-server", spot(appliance), login, {"secret-key": "yes"})
    taken = await keeper.take()
    appliance.lose()
    fresh = place()
    sheet = await keeper.draft(taken, spot(fresh), Credential("admin", password="admin"))
    done, deaths = await keeper.restore_to_the_end(sheet, taken, lambda _: "done")
    assert done.state == "proved", done.proof
    assert deaths > len(done.steps)


async def test_a_target_that_was_put_back_between_two_steps_is_asked_about_and_written_again(
    vault: Vault, install: Install, key_pair: tuple[str, str]
) -> None:
    server = install("web-9")
    server.configure("ticket", files=6)
    login = Credential("root", private_key=key_pair[0])
    keeper = Keeper(vault, "linux-server", place_of(server), login, {"ssh-restart": SSH_RESTART})
    taken = await keeper.take()
    server.lose()
    fresh = install("debian")
    fresh.set_packages(tuple(taken.head.census["packages"]))
    snapshot = fresh.folder.with_name("snapshot")
    fresh.stop()
    shutil.copytree(fresh.folder, snapshot, symlinks=True)
    fresh.start()
    sheet = await keeper.draft(taken, place_of(fresh), login)
    writes = [step.number for step in sheet.steps if step.phase == "write"]

    async def save(changed: Sheet) -> None:
        keeper.saved.append(changed.model_copy(deep=True))
        if all(step.state == "done" for step in changed.steps if step.number in writes[:-1]):
            raise LeaseLost("The worker died.", "")

    with pytest.raises(LeaseLost):
        await keeper.restore(sheet, taken, save=save)
    stored = keeper.saved[-1]
    fresh.lose()
    shutil.copytree(snapshot, fresh.folder, symlinks=True)
    fresh.start()
    await keeper.restore(stored, taken)
    gate = stored.open_gate()
    assert gate is not None
    assert (gate.kind, gate.choices) == ("put back", ["write again", "go on"])
    assert stored.state == "waiting"
    keeper.answer(stored, "write again")
    while (await keeper.restore(stored, taken)).state != "proved":
        if (gate := stored.open_gate()) is not None:
            keeper.answer(stored, gate.choices[0])
    assert fresh.read("/etc/hostname").startswith("web-9")
