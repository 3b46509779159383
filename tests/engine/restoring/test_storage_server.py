"""The storage appliance: exported, lost, restored onto a fresh one that answers elsewhere, and
proved.
"""

from __future__ import annotations

import pytest

from fennox.core.errors import KeyChanged, KeyUnknown, Unreachable, WrongLogin
from fennox.core.places.sheet_model import RestorePurpose
from fennox.core.restoring.sheet import Place as Spot
from fennox.engine.backups.vault import Vault
from fennox.engine.journal import MemoryJournal
from fennox.engine.restoring.targets import WhoseLogin
from fennox.links import web
from fennox.links.base import Address, Answer, Credential, Link
from saltmere.skerry import Skerry
from tests.engine.appliances import Place, place
from tests.engine.keeper import Keeper

__all__ = ["place"]

PASSWORD = "made-up-password"


def spot(appliance: Skerry) -> Spot:
    return Spot(address=appliance.address, account=appliance.account, key=appliance.fingerprint)


@pytest.fixture
def appliance(place: Place) -> Skerry:
    made = place()
    made.configure("quay", "keeper", PASSWORD)
    return made


def keeper_of(vault: Vault, appliance: Skerry, *, with_key: bool = True) -> Keeper:
    login = Credential("keeper", password=PASSWORD)
    return Keeper(
        vault, "storage-server", spot(appliance), login, {"secret-key": "yes" if with_key else "no"}
    )


async def test_the_whole_story(vault: Vault, appliance: Skerry, place: Place) -> None:
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    assert taken.head.findings == []
    assert taken.head.census["pools"] == ["deck", "hold"]
    assert (await keeper.take()).nothing_new
    appliance.lose()
    fresh = place()
    sheet = await keeper.draft(taken, spot(fresh), Credential("admin", password="admin"))
    assert sheet.blockers() == []
    assert sheet.target.address != sheet.after.place.address
    assert sheet.after.place == Spot(
        address=appliance.address, account="keeper", key=fresh.fingerprint
    )
    assert sheet.restarts == ["Load the export; the appliance then restarts by itself"]
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    assert sheet.proof is not None
    counts = {item.name: (item.backup, item.fresh, item.after) for item in sheet.proof.lists}
    assert counts["shares"] == (5, 1, 5)
    assert counts["users"] == (7, 1, 7)
    # it answers where the sheet said, with the login of the backup, and no longer with the default
    # one
    fresh.host, fresh.port, fresh.account, fresh.password = (
        appliance.host,
        appliance.port,
        "keeper",
        PASSWORD,
    )
    fresh.wait()
    default = Credential("admin", password="admin")
    link = await web.connect(Address(appliance.host, appliance.port), default, fresh.fingerprint)
    with pytest.raises(WrongLogin):
        await link.request("GET", "/api/about")
    await link.close()


@pytest.mark.parametrize(
    "purpose",
    ["replace", *(pytest.param(name, marks=pytest.mark.long) for name in ("practise", "seed"))],
)
async def test_another_appliance_keeps_its_own_address(
    vault: Vault, appliance: Skerry, place: Place, purpose: RestorePurpose
) -> None:
    """Practice took production's address over."""
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    fresh = place()
    where, key = fresh.address, fresh.fingerprint
    login = Credential("admin", password="admin")
    sheet = await keeper.draft(taken, spot(fresh), login, purpose=purpose)
    said = sheet.after.place
    assert said == Spot(address=where, account="keeper", key=key)
    [network] = [value for value in sheet.placed.values if value.name == "network-address"]
    assert (network.choice, network.entries[2].after) == ("target", where)
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    fresh.account, fresh.password = "keeper", PASSWORD
    told = fresh.request("GET", "/api/about")
    assert isinstance(told, dict)
    assert (
        told["name"]
        == {"replace": "quay-store", "practise": "quay-store", "seed": "web-10"}[purpose]
    )
    assert isinstance(appliance.request("GET", "/api/about"), dict), "production is as it was"


async def test_an_appliance_that_has_not_restarted_yet_is_not_taken_for_one_that_has(
    vault: Vault, appliance: Skerry
) -> None:
    """It was reached again, and checked, before it went down; the next step met nobody."""
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    (appliance.folder / "lingers").write_text("2")
    sheet = await keeper.draft(taken, spot(appliance), keeper.login)
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    [loading] = [step for step in sheet.steps if step.do == "upload" and not step.repeat]
    [reached] = [step for step in sheet.steps if step.do == "rejoin"]
    assert loading.ended is not None
    assert reached.detail == f"keeper at {appliance.address}, after it had gone"


async def test_an_export_without_its_key_says_so_when_taken_and_names_what_is_lost(
    vault: Vault, appliance: Skerry, place: Place
) -> None:
    keeper = keeper_of(vault, appliance, with_key=False)
    taken = await keeper.take()
    assert [finding.code for finding in taken.head.findings] == ["lacks-secret-key"]
    appliance.lose()
    fresh = place()
    sheet = await keeper.draft(taken, spot(fresh), Credential("admin", password="admin"))
    assert "lacks-secret-key" in [
        finding.code for finding in sheet.findings if finding.severity == "warning"
    ]
    await keeper.restore(sheet, taken)
    assert sheet.proof is not None
    [passwords] = [item for item in sheet.proof.lists if item.name == "known passwords"]
    assert (sheet.state, passwords.missing) == ("not proved", [f"quay-{n:02}" for n in range(6)])


async def test_a_load_that_was_begun_and_not_confirmed_is_asked_about_and_never_repeated(
    vault: Vault, appliance: Skerry, place: Place
) -> None:
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    appliance.lose()
    fresh = place()
    sheet = await keeper.draft(taken, spot(fresh), Credential("admin", password="admin"))
    loading = next(step for step in sheet.steps if step.do == "upload")
    for step in sheet.steps:
        if step.number < loading.number and step.do != "safety":
            step.state = "done"
    fresh.request("PUT", "/api/quiet", {"quiet": True})
    loading.state = "doing"  # the worker died here, and nobody knows how far it came
    await keeper.restore(sheet, taken)
    gate = sheet.open_gate()
    assert gate is not None
    assert (gate.kind, gate.choices) == ("unknown", ["done", "not done"])
    keeper.answer(sheet, "not done")
    # the connection is cut again in the middle of the same step: the old answer does not count for
    # the new attempt
    connect = keeper.connect

    async def cut(place: Spot, whose: WhoseLogin = "after") -> Link:
        link = await connect(place, whose)

        async def upload(*_: object, **__: object) -> Answer:
            raise Unreachable("The connection was cut.", "Try again.")

        setattr(link, "upload", upload)  # noqa: B010
        return link

    keeper.connect = cut  # type: ignore[method-assign]
    with pytest.raises(Unreachable):
        await keeper.restore(sheet, taken)
    keeper.connect = connect  # type: ignore[method-assign]
    uploads = [step.state for step in sheet.steps if step.do == "upload"]
    assert uploads == ["unknown", "waiting"]
    await keeper.restore(sheet, taken)
    second = sheet.open_gate()
    assert second is not None
    assert second.number > gate.number
    keeper.answer(sheet, "not done")
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof


async def test_the_certificate_is_the_identity_and_a_change_stops_everything(
    appliance: Skerry,
) -> None:
    address, login = (
        Address(appliance.host, appliance.port),
        Credential("keeper", password=PASSWORD),
    )
    with pytest.raises(KeyUnknown) as unknown:
        await web.connect(address, login, None)
    assert unknown.value.fields["fingerprint"] == appliance.fingerprint
    with pytest.raises(KeyChanged):
        await web.connect(address, login, "SHA256:other")
    link = await web.connect(address, Credential("keeper", password="wrong"), appliance.fingerprint)
    with pytest.raises(WrongLogin):
        await link.request("GET", "/api/about")
    await link.close()
    appliance.stop()
    with pytest.raises(Unreachable):
        await web.connect(address, login, appliance.fingerprint)


async def test_a_take_of_a_stopped_appliance_fails_with_a_sentence(
    vault: Vault, appliance: Skerry
) -> None:
    keeper = keeper_of(vault, appliance)
    appliance.stop()
    with pytest.raises(Unreachable, match="cannot be reached by TLS"):
        await keeper.take(MemoryJournal())


async def test_the_way_back_brings_address_login_and_objects_of_before(
    vault: Vault, appliance: Skerry, place: Place
) -> None:
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    appliance.lose()
    fresh = place()
    before = fresh.request("GET", "/api/state")
    there = spot(fresh)
    sheet = await keeper.draft(taken, there, Credential("admin", password="admin"))
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    way, safety = await keeper.draft_way_back(sheet, taken)
    assert way.blockers() == []
    assert way.after.place == there
    await keeper.restore(way, safety)
    assert way.state == "proved", way.proof
    assert fresh.request("GET", "/api/state") == before


async def test_a_lost_boot_device_costs_no_volume(
    vault: Vault, appliance: Skerry, place: Place
) -> None:
    """The disks are put into a new one; the sealed volume opens by the key of the backup."""
    appliance.add_volumes()
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    appliance.lose()
    fresh = place(disks=appliance.disks)
    sheet = await keeper.draft(taken, spot(fresh), Credential("admin", password="admin"))
    await keeper.restore(sheet, taken)
    assert sheet.state == "proved", sheet.proof
    assert sheet.proof is not None
    counts = {item.name: (item.backup, item.fresh, item.after) for item in sheet.proof.lists}
    assert counts["volumes that are open"] == (2, 0, 2)
    assert counts["share permissions"] == (5, 1, 5)


async def test_volumes_that_are_not_there_are_missing_from_the_proof(
    vault: Vault, appliance: Skerry, place: Place
) -> None:
    """Somebody forgot to move the disks."""
    appliance.add_volumes()
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    appliance.lose()
    sheet = await keeper.draft(taken, spot(place()), Credential("admin", password="admin"))
    await keeper.restore(sheet, taken)
    assert sheet.state == "not proved"
    assert sheet.proof is not None
    [found] = [one for one in sheet.proof.lists if one.name == "volumes that were found"]
    assert found.missing == ["charts", "crew-files"]


async def test_another_version_is_a_blocker(vault: Vault, appliance: Skerry, place: Place) -> None:
    keeper = keeper_of(vault, appliance)
    taken = await keeper.take()
    other = place(version="4.2c")
    sheet = await keeper.draft(taken, spot(other), Credential("admin", password="admin"))
    [blocker] = sheet.blockers()
    assert "version 4.2b" in blocker.text
    assert "4.2c" in blocker.text
