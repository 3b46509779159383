"""A cluster that pushes under the name of whichever member is active."""

from __future__ import annotations

from fennox.wire.backups import NewTake
from saltmere.lattice.machine import LatticeMachine
from tests.service.appliances.conftest import Protected
from tests.service.running import until

Lattice = Protected[LatticeMachine]


def named(new: LatticeMachine) -> LatticeMachine:
    new.name_members()
    return new


def test_a_comparison_says_exactly_what_changed_whichever_member_pushed(lattice: Lattice) -> None:
    first = lattice.take()
    lattice.machine.request("POST", "/members/lattice-2/activate")
    second = lattice.take()
    assert lattice.changed(first, second) == [], "another member has pushed the same"
    lattice.machine.request("PUT", "/networks/guests", {"vlan": 90})
    third = lattice.take()
    assert sorted(lattice.changed(second, third)) == ["configuration/asked.cfg", "inventory.json"]


def test_lost_it_comes_back_at_another_address_where_members_know_each_other(
    lattice: Lattice,
) -> None:
    backup, before = lattice.take(), lattice.machine.inventory()
    new = named(lattice.fresh())
    lattice.machine.lose()
    lattice.restore(lattice.draft(backup, new))
    after = new.inventory()
    assert after["networks"] == before["networks"]
    assert after["devices"] == before["devices"]
    assert [one["address"] for one in after["members"]] != [
        one["address"] for one in before["members"]
    ]


def test_where_they_do_not_nothing_is_begun(lattice: Lattice) -> None:
    backup, new = lattice.take(), lattice.fresh()
    shown = lattice.client.sheet(lattice.draft(backup, new)).sheet
    said = [one.text for one in shown.blockers()]
    assert said == ["The target lacks of members: lattice-1, lattice-2, lattice-3."]
    assert new.inventory()["networks"] == []


def test_a_flood_of_changes_is_one_backup_of_the_newest(lattice: Lattice) -> None:
    machine, client = lattice.machine, lattice.client
    lattice.take()
    machine.request("PUT", "/schedule", {"on": "change"})
    for number in range(40):
        member = f"/members/lattice-{number % 3 + 1}/activate"
        machine.request("POST", member)
        machine.request("PUT", f"/networks/guests-{number}", {"vlan": 100 + number})
    machine.request("PUT", "/schedule", {})

    def by_itself() -> list[str]:
        held = client.backups(system=lattice.name)
        return [one.id for one in held if "by-itself" in [part.name for part in one.parts]]

    until(lambda: len(by_itself()) == 1, "the flood has become a backup")
    [backup] = by_itself()
    documents = [one.path for one in client.documents(backup)]
    assert sorted(documents) == ["by-itself/own.cfg", "by-itself/own.sum"]


def test_another_key_than_the_drops_is_said(lattice: Lattice) -> None:
    lattice.take()
    (lattice.machine.folder / "learned.json").write_text('"SHA256:made+up+by+somebody+between"')
    client = lattice.client
    run = lattice.service.ended(client.take(NewTake(system=lattice.name)).id)
    assert run.state == "failed", "it does not push to a place with another key"
    state = client.take(NewTake(system=lattice.name, parts=["state"]))
    run = lattice.service.ended(state.id)
    assert run.state == "done", run.reason
    [newest, *_] = client.backups(system=lattice.name)
    found = {one.code: one.text for one in client.backup(newest.id).findings}
    assert "takes SHA256:made+up+by+somebody+between" in found["trusts-another-key"]
